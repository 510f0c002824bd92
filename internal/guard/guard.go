// Package guard makes sure that nothing outlives Omnivigil, however it ends.
//
// The program runs twice. The outer one does nothing but start the inner one,
// which does everything, and wait for it. Each is the other's guard: when the
// inner one is gone, whatever it left is ended and the terminal is put back as it
// was; when the outer one is gone, the inner one notices and ends in order, but
// soon. Both are the parent of orphans, so no descendant can hide from them.
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
	"strings"
	"syscall"
	"time"

	"github.com/charmbracelet/x/term"

	"omnivigil/internal/spawn"
)

// variable tells the inner program that it is guarded. Its value is the number
// of the outer process.
const variable = "OMNIVIGIL_GUARD"

// Grace is how long what is left behind may take to end before it is killed.
const Grace = 1500 * time.Millisecond

// The inner program's end of two pipes: one ends when the outer program does, on
// the other it says what the terminal needs.
const (
	lifelineFD = 3
	reportFD   = 4
)

// What the inner program reports: a line for each, a word and what it is about.
const (
	screenOpens  = "screen-opens"
	screenCloses = "screen-closes"
	crashFile    = "crash-file" // where the runtime writes why the program has crashed
	removeFolder = "remove"     // a folder that is of no use afterwards
)

// Inside reports whether this is the inner program.
func Inside() bool { return os.Getenv(variable) != "" }

// Run starts the program again as the inner one, waits for it, cleans up after
// it, and returns its exit code. It is called in the outer program.
func Run() (int, error) {
	if err := spawn.BecomeSubreaper(); err != nil {
		return 0, err
	}
	self, err := os.Executable()
	if err != nil {
		return 0, fmt.Errorf("find its own program: %w", err)
	}
	lifeline, alive, err := os.Pipe()
	if err != nil {
		return 0, fmt.Errorf("make a pipe: %w", err)
	}
	reading, reports, err := os.Pipe()
	if err != nil {
		return 0, fmt.Errorf("make a pipe: %w", err)
	}
	// Under another name, what kills all of the first name leaves one of the two.
	os.WriteFile("/proc/self/comm", []byte("vigil-guard"), 0)
	terminal := saveTerminal()
	inner := exec.Command(self, os.Args[1:]...)
	inner.Args[0] = os.Args[0]
	inner.Stdin, inner.Stdout, inner.Stderr = os.Stdin, os.Stdout, os.Stderr
	inner.Env = append(os.Environ(), fmt.Sprintf("%s=%d", variable, os.Getpid()))
	inner.ExtraFiles = []*os.File{lifeline, reports}
	forward := make(chan os.Signal, 4)
	signal.Notify(forward, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	if err := inner.Start(); err != nil {
		return 0, fmt.Errorf("start the guarded program: %w", err)
	}
	lifeline.Close()
	reports.Close()
	go func() {
		for s := range forward {
			inner.Process.Signal(s)
		}
	}()
	said := make(chan reported, 1)
	go func() { said <- read(reading) }()
	err = inner.Wait()
	deadline := time.Now().Add(Grace)
	spawn.EndDescendants(func() bool { return time.Now().Before(deadline) })
	of := <-said
	if of.screen {
		terminal.putBack()
	}
	if of.folder != "" {
		os.RemoveAll(of.folder)
	}
	alive.Close()
	return exitCode(inner, err, of.crash)
}

// exitCode tells, where the inner program did not end by itself, what happened. A
// program that was ended by a signal has the exit code that shells give it, 128 and the
// signal's number.
func exitCode(inner *exec.Cmd, err error, crash string) (int, error) {
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return 0, fmt.Errorf("wait for the guarded program: %w", err)
	}
	code := inner.ProcessState.ExitCode()
	if status, ok := inner.ProcessState.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		fmt.Fprintf(os.Stderr, "omnivigil was ended by signal %d (%s). Everything that it ran was ended.\n", status.Signal(), status.Signal())
		code = 128 + int(status.Signal())
	}
	if crash == "" {
		return code, nil
	}
	if info, err := os.Stat(crash); err == nil && info.Size() > 0 {
		fmt.Fprintf(os.Stderr, "omnivigil crashed: this is a defect in it. Everything that it ran was ended.\nThe report is in %s.\n", crash)
		return CrashCode, nil
	}
	os.Remove(crash)
	return code, nil
}

// CrashCode is the exit code after a crash of Omnivigil itself.
const CrashCode = 70

// reported is what the inner program has said by its end.
type reported struct {
	screen        bool // it has left the screen open
	crash, folder string
}

func read(report io.Reader) reported {
	var r reported
	for lines := bufio.NewScanner(report); lines.Scan(); {
		switch word, rest, _ := strings.Cut(lines.Text(), " "); word {
		case screenOpens:
			r.screen = true
		case screenCloses:
			r.screen = false
		case crashFile:
			r.crash = rest
		case removeFolder:
			r.folder = rest
		}
	}
	return r
}

// Enter makes this the inner program: from then on it is the parent of orphans.
// It must be called before anything is started. Where there is no outer program
// it does nothing.
func Enter() error {
	if !Inside() {
		return nil
	}
	// What is started from here is not guarded by the same outer program.
	os.Unsetenv(variable)
	entered = true
	syscall.CloseOnExec(lifelineFD)
	syscall.CloseOnExec(reportFD)
	// Kept for good: a file that nobody holds any more is closed, and its number is used
	// again for something else.
	reports = os.NewFile(reportFD, "report")
	ignoreTerminalStops()
	return spawn.BecomeSubreaper()
}

var (
	entered bool
	reports *os.File
)

// Watch calls gone when the outer program is no more.
func Watch(gone func()) {
	if !entered {
		return
	}
	go func() {
		io.Copy(io.Discard, os.NewFile(lifelineFD, "lifeline"))
		gone()
	}()
}

// Screen tells the outer program that the terminal is in use, and the result that
// it has been put back.
func Screen() func() {
	if !entered {
		return func() {}
	}
	report(screenOpens, "")
	return func() { report(screenCloses, "") }
}

func report(word, about string) {
	if entered {
		fmt.Fprintln(reports, word, about)
	}
}

// RemoveAfterwards has the outer program remove a folder when all is over.
func RemoveAfterwards(folder string) { report(removeFolder, folder) }

// CatchCrash has the runtime write into a file why the program crashes, should it ever,
// and the outer program tell of it once the screen is put back. It returns an error where
// the file cannot be made.
func CatchCrash(file string) error {
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
	report(crashFile, file)
	return nil
}

// savedTerminal is what the terminal was before the inner program had it.
type savedTerminal struct{ state *term.State }

func saveTerminal() savedTerminal {
	state, err := term.GetState(os.Stdin.Fd())
	if err != nil {
		return savedTerminal{} // it is none
	}
	return savedTerminal{state}
}

// leaveScreen ends what a full screen may have begun: the other screen, the
// hidden cursor, mouse and paste reports, key reports, synchronized output.
const leaveScreen = "\x1b[?2026l\x1b[?1049l\x1b[?25h\x1b[?1000l\x1b[?1002l\x1b[?1003l\x1b[?1006l\x1b[?1004l\x1b[?2004l\x1b[<u\x1b[>4m\x1b[0m\r"

func (t savedTerminal) putBack() {
	if t.state != nil {
		os.Stdout.WriteString(leaveScreen)
		term.Restore(os.Stdin.Fd(), t.state)
	}
}
