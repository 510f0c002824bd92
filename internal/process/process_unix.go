//go:build unix

package process

import (
	"fmt"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

func signalNumber(name string) (syscall.Signal, error) {
	sig := unix.SignalNum("SIG" + name)
	if sig == 0 {
		return 0, fmt.Errorf("there is no signal %s", name)
	}
	return sig, nil
}

func exitFromState(state *os.ProcessState) Exit {
	status, ok := state.Sys().(syscall.WaitStatus)
	if ok && status.Signaled() {
		return Exit{Code: -1, Signal: unix.SignalName(status.Signal()), Core: status.CoreDump()}
	}
	return Exit{Code: state.ExitCode()}
}
