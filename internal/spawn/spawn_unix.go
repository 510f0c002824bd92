//go:build unix

package spawn

import (
	"fmt"
	"os"
	"os/exec"
	"syscall"

	"github.com/creack/pty"
	"golang.org/x/sys/unix"
)

// startOnTerminal starts cmd as the leader of a new session, and so of a new
// process group, on a new terminal, and returns the terminal's other side.
func startOnTerminal(cmd *exec.Cmd, cols, rows int) (*os.File, error) {
	master, tty, err := pty.Open()
	if err != nil {
		return nil, fmt.Errorf("open a terminal: %w", err)
	}
	defer tty.Close()
	defer master.Close()
	if err := resize(master, cols, rows); err != nil {
		return nil, err
	}
	cmd.Stdin, cmd.Stdout, cmd.Stderr = tty, tty, tty
	cmd.SysProcAttr = &syscall.SysProcAttr{Setsid: true, Setctty: true}
	// The duplicate is given to the runtime's poller, so that reads can be
	// given a deadline; the original cannot.
	fd, err := unix.FcntlInt(master.Fd(), unix.F_DUPFD_CLOEXEC, 0)
	if err != nil {
		return nil, fmt.Errorf("duplicate the terminal: %w", err)
	}
	if err := unix.SetNonblock(fd, true); err != nil {
		unix.Close(fd)
		return nil, fmt.Errorf("prepare the terminal: %w", err)
	}
	polled := os.NewFile(uintptr(fd), master.Name())
	if err := cmd.Start(); err != nil {
		polled.Close()
		return nil, err
	}
	return polled, nil
}

func resize(tty *os.File, cols, rows int) error {
	conn, err := tty.SyscallConn()
	if err != nil {
		return err
	}
	var set error
	err = conn.Control(func(fd uintptr) {
		set = unix.IoctlSetWinsize(int(fd), unix.TIOCSWINSZ, &unix.Winsize{Row: uint16(rows), Col: uint16(cols)})
	})
	if err == nil {
		err = set
	}
	return err
}

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
