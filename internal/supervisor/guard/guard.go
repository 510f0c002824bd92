// Package guard ensures that nothing of a project outlives Omnivigil, however that ends.
//
// A running project is two processes in their own session, without a terminal: the supervisor, which does everything,
// and its watchdog, which starts the supervisor and waits. When the supervisor is gone, the watchdog ends whatever it
// left; when the watchdog is gone, the supervisor ends in order, but soon. Both adopt orphans, so no descendant can
// hide from them.
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

// variable tells which part a process has: launched for a watchdog, and for its supervisor the process ID of the
// watchdog.
const variable = "OMNIVIGIL_GUARD"

const launched = "launched"

// Grace is how long processes that are left get to end before they are killed.
const Grace = 1500 * time.Millisecond

// Files that a process inherits from the one that started it. The supervisor inherits the first two from the
// watchdog.
const (
	outcomeFD  = 3 // reports to the launcher how the start went
	launcherFD = 4 // ends with the launcher
	watchdogFD = 5 // ends with the watchdog
	reportFD   = 6 // tells the watchdog what to do afterwards
	lockFD     = 7 // the project's lock
)

// What the supervisor reports to its watchdog: a line for each, with a word and an argument.
const (
	crashFile    = "crash-file" // the file with the report of a crash
	removeFolder = "remove"     // a directory to remove
)

// Part is the role of a process.
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

// Launched is a started watchdog with its supervisor.
type Launched struct{ outcome *os.File }

// kept are files that stay open as long as the process runs, so that others notice its end.
var kept []*os.File

// Launch starts the program again, with these arguments, as a watchdog. Its supervisor notices when the calling
// process is gone. It must not be called by two goroutines at once.
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
	go watchdog.Wait() // reaps it
	return &Launched{outcome}, nil
}

// Outcome blocks until the start has succeeded, and returns the message, or has failed.
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

// Failure is why a supervisor did not start, with the exit status.
type Failure struct {
	Code int
	Text string
}

func (f *Failure) Error() string { return f.Text }

// Started reports to the launcher that the start has succeeded. The supervisor calls it.
func Started(text string) { tellLauncher("started " + text) }

// Failed reports to the launcher why the start failed. The watchdog or the supervisor calls it.
func Failed(code int, text string) { tellLauncher(fmt.Sprintf("failed %d %s", code, text)) }

func tellLauncher(text string) {
	f := os.NewFile(outcomeFD, "outcome")
	io.WriteString(f, text)
	f.Close()
}

// Ward starts the program again as the supervisor, waits for it, and ends what it left. The watchdog calls it, with
// the lock of the project; only these two processes have the lock.
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
	// With another process name, so that killing all processes of one name leaves one of the two.
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
		f.Close() // otherwise the supervisor's end would go unnoticed
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

// EndAll ends all descendants of the calling process: first with SIGTERM, after Grace with SIGKILL. It blocks until
// none is left.
func EndAll() {
	deadline := time.Now().Add(Grace)
	process.EndDescendants(func() bool { return time.Now().Before(deadline) })
}

// reported is what the supervisor has reported.
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

// Supervisor is the calling process as the supervisor.
type Supervisor struct {
	Watchdog int      // the process that guards it
	Lock     *os.File // of the project; held as long as it is open
	reports  *os.File
}

// Enter makes this process the supervisor: from then on it adopts orphans. It must be called before anything is
// started.
func Enter() (*Supervisor, error) {
	watchdog, _ := strconv.Atoi(os.Getenv(variable))
	// The descendants do not belong to the same watchdog.
	os.Unsetenv(variable)
	for fd := outcomeFD; fd <= lockFD; fd++ {
		closeOnExec(fd)
	}
	s := &Supervisor{Watchdog: watchdog, reports: os.NewFile(reportFD, "report")}
	s.Lock = os.NewFile(lockFD, "lock")
	kept = append(kept, s.reports, s.Lock)
	return s, process.BecomeSubreaper()
}

// WatchdogGone is closed when the watchdog is gone.
func (s *Supervisor) WatchdogGone() <-chan struct{} { return ended(watchdogFD) }

// LauncherGone is closed when the process that launched both is gone.
func (s *Supervisor) LauncherGone() <-chan struct{} { return ended(launcherFD) }

// ended is closed when no process holds the other end of a pipe.
func ended(fd uintptr) <-chan struct{} {
	gone := make(chan struct{})
	go func() {
		io.Copy(io.Discard, os.NewFile(fd, "lifeline"))
		close(gone)
	}()
	return gone
}

// RemoveAfterwards tells the watchdog to remove a directory when everything has ended.
func (s *Supervisor) RemoveAfterwards(folder string) {
	fmt.Fprintln(s.reports, removeFolder, folder)
}

// CatchCrash makes the runtime write the report of a crash into a file. It returns an error if the file cannot be
// created.
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
