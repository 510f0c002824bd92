// Package guard makes sure that nothing of a project outlives Omnivigil, however that ends.
//
// A running project is two processes in a session of their own, without a terminal: the supervisor, which does
// everything, and its watchdog, which starts the supervisor and waits. When the supervisor is gone, the watchdog ends
// whatever it left; when the watchdog is gone, the supervisor ends in order, but soon. Both are the parent of
// orphans, so no descendant can hide from them.
//
// A face is a process of its own, which may launch the other two. While it has the terminal, a keeper restores the
// terminal if the face is killed: see Keep.
package guard

import (
	"bufio"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"strconv"
	"strings"
	"syscall"
	"time"

	"omnivigil/internal/process"
)

// variable says which part a process has: launched for a watchdog, and for its
// supervisor the number of the watchdog.
const variable = "OMNIVIGIL_GUARD"

const launched = "launched"

// Grace is how long what is left behind may take to end before it is killed.
const Grace = 1500 * time.Millisecond

// Files that a process inherits from the one that has started it. The first two continue from
// the watchdog to the supervisor.
const (
	outcomeFD  = 3 // where the launcher hears how the start went
	launcherFD = 4 // ends when the launcher does
	watchdogFD = 5 // ends when the watchdog does
	reportFD   = 6 // what the watchdog is to do afterwards
	lockFD     = 7 // the project's lock
)

// What the supervisor reports to its watchdog: a line for each, a word and what it is about.
const (
	crashFile    = "crash-file" // where the runtime writes why the program has crashed
	removeFolder = "remove"     // a folder that is of no use afterwards
)

// Part is what a process is to do.
type Part int

const (
	Neither Part = iota
	WatchdogPart
	SupervisorPart
)

// Which returns the part of the calling process.
func Which() Part {
	switch value := os.Getenv(variable); {
	case value == "":
		return Neither
	case value == launched:
		return WatchdogPart
	}
	return SupervisorPart
}

// Launched is a watchdog that was started, with its supervisor.
type Launched struct{ outcome *os.File }

// kept are files that stay open as long as the process runs, by which others know that it
// does: one that no process holds any more is closed.
var kept []*os.File

// Launch starts the program again, with these words, as a watchdog. Its supervisor can tell
// when the calling process has gone. It must not be called by two goroutines at once.
func Launch(words []string) (*Launched, error) {
	self, err := os.Executable()
	if err != nil {
		return nil, fmt.Errorf("find its own program: %w", err)
	}
	outcome, says, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("make a pipe: %w", err)
	}
	hears, life, err := os.Pipe()
	if err != nil {
		return nil, fmt.Errorf("make a pipe: %w", err)
	}
	kept = append(kept, life)
	watchdog := exec.Command(self, words...)
	watchdog.Args[0] = os.Args[0]
	watchdog.Env = append(os.Environ(), variable+"="+launched)
	watchdog.ExtraFiles = []*os.File{says, hears}
	watchdog.SysProcAttr = ownSession()
	if err := watchdog.Start(); err != nil {
		return nil, fmt.Errorf("start the supervisor: %w", err)
	}
	says.Close()
	hears.Close()
	go watchdog.Wait() // so that it is collected
	return &Launched{outcome}, nil
}

// Outcome blocks until the start has succeeded, and returns what was said then, or failed.
func (l *Launched) Outcome() (said string, err error) {
	defer l.outcome.Close()
	text, err := io.ReadAll(l.outcome)
	word, rest, _ := strings.Cut(string(text), " ")
	switch {
	case err != nil:
		return "", fmt.Errorf("hear from the supervisor: %w", err)
	case word == "started":
		return rest, nil
	case word == "failed":
		code, text, _ := strings.Cut(rest, " ")
		n, _ := strconv.Atoi(code)
		return "", &Failure{n, text}
	}
	return "", errors.New("the supervisor ended before it had started")
}

// Failure is why a supervisor did not start, and the exit code that this means.
type Failure struct {
	Code int
	Text string
}

func (f *Failure) Error() string { return f.Text }

// Started reports to the launcher that the start has succeeded. It is called by the supervisor.
func Started(text string) { tellLauncher("started " + text) }

// Failed reports to the launcher why there is no start. It is called by watchdog or supervisor.
func Failed(code int, text string) { tellLauncher(fmt.Sprintf("failed %d %s", code, text)) }

func tellLauncher(text string) {
	f := os.NewFile(outcomeFD, "outcome")
	io.WriteString(f, text)
	f.Close()
}

// Ward starts the program again as the supervisor, waits for it, and ends what it left. It
// is called by the watchdog, with the lock of the project; only that and the supervisor have
// it.
func Ward(lock *os.File) error {
	if err := process.BecomeSubreaper(); err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return fmt.Errorf("find its own program: %w", err)
	}
	lifeline, alive, err := os.Pipe()
	if err != nil {
		return fmt.Errorf("make a pipe: %w", err)
	}
	reading, reports, err := os.Pipe()
	if err != nil {
		return fmt.Errorf("make a pipe: %w", err)
	}
	kept = append(kept, lock, alive)
	// Under another name, what kills all of the first name leaves one of the two.
	os.WriteFile("/proc/self/comm", []byte("vigil-guard"), 0)
	outcome, launcher := os.NewFile(outcomeFD, "outcome"), os.NewFile(launcherFD, "launcher")
	supervisor := exec.Command(self, os.Args[1:]...)
	supervisor.Args[0] = os.Args[0]
	supervisor.Env = append(os.Environ(), fmt.Sprintf("%s=%d", variable, os.Getpid()))
	supervisor.ExtraFiles = []*os.File{outcome, launcher, lifeline, reports, lock}
	forward := make(chan os.Signal, 4)
	signal.Notify(forward, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	if err := supervisor.Start(); err != nil {
		return fmt.Errorf("start the supervisor: %w", err)
	}
	for _, f := range []*os.File{outcome, launcher, lifeline, reports} {
		f.Close() // else the supervisor's end would not be noticed
	}
	go func() {
		for s := range forward {
			supervisor.Process.Signal(s)
		}
	}()
	said := make(chan reported, 1)
	go func() { said <- read(reading) }()
	supervisor.Wait()
	EndAll()
	of := <-said
	if of.folder != "" {
		os.RemoveAll(of.folder)
	}
	if info, err := os.Stat(of.crash); err == nil && info.Size() == 0 {
		os.Remove(of.crash)
	}
	return nil
}

// EndAll ends all that the calling process has below it, first gently, after Grace by
// force. It blocks until none is left.
func EndAll() {
	deadline := time.Now().Add(Grace)
	process.EndDescendants(func() bool { return time.Now().Before(deadline) })
}

// reported is what the supervisor has said by its end.
type reported struct{ crash, folder string }

func read(report io.Reader) reported {
	var r reported
	for lines := bufio.NewScanner(report); lines.Scan(); {
		switch word, rest, _ := strings.Cut(lines.Text(), " "); word {
		case crashFile:
			r.crash = rest
		case removeFolder:
			r.folder = rest
		}
	}
	return r
}

// Supervisor is the calling process as one.
type Supervisor struct {
	Watchdog int      // number of the process that guards it
	Lock     *os.File // of the project, which it holds as long as it is there
	reports  *os.File
}

// Enter makes this the supervisor: from then on it is the parent of orphans. It must be
// called before anything is started.
func Enter() (*Supervisor, error) {
	watchdog, _ := strconv.Atoi(os.Getenv(variable))
	// What is started from here is not guarded by the same watchdog.
	os.Unsetenv(variable)
	for fd := outcomeFD; fd <= lockFD; fd++ {
		closeOnExec(fd)
	}
	s := &Supervisor{Watchdog: watchdog, reports: os.NewFile(reportFD, "report")}
	s.Lock = os.NewFile(lockFD, "lock")
	kept = append(kept, s.reports, s.Lock)
	return s, process.BecomeSubreaper()
}

// WatchdogGone is closed when the watchdog is no more.
func (s *Supervisor) WatchdogGone() <-chan struct{} { return ended(watchdogFD) }

// LauncherGone is closed when the process is no more that had all of this started.
func (s *Supervisor) LauncherGone() <-chan struct{} { return ended(launcherFD) }

// ended is closed when no process holds the other end of a pipe any more.
func ended(fd uintptr) <-chan struct{} {
	gone := make(chan struct{})
	go func() {
		io.Copy(io.Discard, os.NewFile(fd, "lifeline"))
		close(gone)
	}()
	return gone
}

// RemoveAfterwards has the watchdog remove a folder when all is over.
func (s *Supervisor) RemoveAfterwards(folder string) {
	fmt.Fprintln(s.reports, removeFolder, folder)
}

// CatchCrash has the runtime write into a file why the program crashes, should it ever.
// It returns an error where the file cannot be made.
func (s *Supervisor) CatchCrash(file string) error {
	if err := os.MkdirAll(filepath.Dir(file), 0o700); err != nil {
		return err
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_WRONLY|os.O_TRUNC, 0o600)
	if err != nil {
		return err
	}
	defer f.Close()
	if err := debug.SetCrashOutput(f, debug.CrashOptions{}); err != nil {
		return err
	}
	fmt.Fprintln(s.reports, crashFile, file)
	return nil
}
