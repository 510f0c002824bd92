package guard

import "syscall"

// ownSession has a process do without the console of the one that starts it; the value is
// that of DETACHED_PROCESS.
func ownSession() *syscall.SysProcAttr { return &syscall.SysProcAttr{CreationFlags: 0x8} }

func closeOnExec(fd int) { syscall.CloseOnExec(syscall.Handle(fd)) }
