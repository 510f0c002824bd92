//go:build unix

package guard

import "syscall"

// ownSession makes a process the leader of its own session, without a terminal.
func ownSession() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }

func closeOnExec(fd int) { syscall.CloseOnExec(fd) }
