package guard

import "syscall"

// ownSession starts a process without the console of its parent; the value is DETACHED_PROCESS.
func ownSession() *syscall.SysProcAttr { return &syscall.SysProcAttr{CreationFlags: 0x8} }

func closeOnExec(fd int) { syscall.CloseOnExec(syscall.Handle(fd)) }
