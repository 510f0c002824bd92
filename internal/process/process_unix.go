//go:build unix

package process

import (
	"fmt"
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

// reap waits for the process and returns how it ended. What os.Process.Wait does besides can wait: the next run cannot.
func (p *Process) reap() Exit {
	var status syscall.WaitStatus
	_, err := syscall.Wait4(p.PID, &status, 0, nil)
	for err == syscall.EINTR {
		_, err = syscall.Wait4(p.PID, &status, 0, nil)
	}
	switch {
	case err != nil:
		return Exit{Code: -1}
	case status.Signaled():
		return Exit{Code: -1, Signal: unix.SignalName(status.Signal()), Core: status.CoreDump()}
	}
	return Exit{Code: status.ExitStatus()}
}
