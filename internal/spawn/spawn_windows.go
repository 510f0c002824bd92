package spawn

import (
	"errors"
	"os"
	"os/exec"
)

var errNoTerminal = errors.New("pseudo-terminals and process groups are not supported on Windows yet")

func startOnTerminal(*exec.Cmd, int, int) (*os.File, error) { return nil, errNoTerminal }

func resize(*os.File, int, int) error { return errNoTerminal }

type group int

func (g group) signal(string) error { return errNoTerminal }

func (g group) alive() bool { return false }

func exitFromState(state *os.ProcessState) Exit { return Exit{Code: state.ExitCode()} }
