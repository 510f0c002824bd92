package process

import (
	"errors"
	"os"
	"os/exec"
	"syscall"
)

var errNoTerminal = errors.New("pseudo-terminals and process groups are not supported on Windows yet")

type terminals struct{}

func newTerminals() terminals { return terminals{} }

func (terminals) start(*exec.Cmd, Spec, func() error) (*os.File, error) { return nil, errNoTerminal }

func startOnPipe(*exec.Cmd) (*os.File, error) { return nil, errNoTerminal }

func resize(*os.File, int, int) error { return errNoTerminal }

func writeNow(*os.File, []byte) {}

func terminalModes(*os.File) (echoes, byLine bool) { return true, true }

type reading struct{}

func (reading) read(f *os.File, buf []byte) (int, error) { return f.Read(buf) }

func (reading) more(*os.File, []byte) int { return 0 }

func (reading) isDone(*os.File) bool { return true }

func signalNumber(string) (syscall.Signal, error) { return 0, errNoTerminal }

type tracker struct{}

func newTracker() tracker { return tracker{} }

func (tracker) add(*Process) {}

func (tracker) drop(*Process) {}

func (tracker) expect(int, bool) {}

func (tracker) lookAhead(*Process) {}

type told struct{}

func (tracker) remind(*Process) {}

func (tracker) signal(*Process, syscall.Signal) error { return errNoTerminal }

func (tracker) alive(*Process) bool { return false }

// BecomeSubreaper does nothing on this system.
func BecomeSubreaper() error { return nil }

// EndDescendants does nothing on this system.
func EndDescendants(func() bool) {}

func (p *Process) reap() Exit {
	p.cmd.Wait()
	return Exit{Code: p.cmd.ProcessState.ExitCode()}
}
