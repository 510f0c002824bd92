// Package guard makes sure that nothing outlives Omnivigil, however it ends.
//
// The program runs twice. The outer one does nothing but start the inner one,
// which does everything, and wait for it. Each is the other's guard: when the
// inner one is gone, whatever it left is ended and the terminal is put back as it
// was; when the outer one is gone, the inner one notices and ends in order, but
// soon. Both are the parent of orphans, so no descendant can hide from them.
package guard

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"os/signal"
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

// What the inner program reports.
const (
	screenOpens  = 'o'
	screenCloses = 'c'
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
	report, reports, err := os.Pipe()
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
	screen := make(chan bool, 1)
	go func() { screen <- screenOpen(report) }()
	err = inner.Wait()
	deadline := time.Now().Add(Grace)
	spawn.EndDescendants(func() bool { return time.Now().Before(deadline) })
	if <-screen {
		terminal.putBack()
	}
	alive.Close()
	return exitCode(inner, err)
}

func exitCode(inner *exec.Cmd, err error) (int, error) {
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) {
		return 0, fmt.Errorf("wait for the guarded program: %w", err)
	}
	if status, ok := inner.ProcessState.Sys().(syscall.WaitStatus); ok && status.Signaled() {
		fmt.Fprintf(os.Stderr, "omnivigil was ended by %s; what it ran is ended, too.\n", status.Signal())
		return 128 + int(status.Signal()), nil
	}
	return inner.ProcessState.ExitCode(), nil
}

// screenOpen reads reports until the inner program ends, and reports whether it
// left the screen open.
func screenOpen(report io.Reader) bool {
	all, _ := io.ReadAll(report)
	return len(all) > 0 && all[len(all)-1] == screenOpens
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
	ignoreTerminalStops()
	return spawn.BecomeSubreaper()
}

var entered bool

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
	report := os.NewFile(reportFD, "report")
	report.Write([]byte{screenOpens})
	return func() { report.Write([]byte{screenCloses}) }
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
