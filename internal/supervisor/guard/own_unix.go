//go:build unix

package guard

import "syscall"

// ownSession has a process lead a session of its own, without a terminal.
func ownSession() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setsid: true} }

func closeOnExec(fd int) { syscall.CloseOnExec(fd) }
