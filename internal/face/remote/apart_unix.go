//go:build unix

package remote

import "syscall"

// apart are the attributes of a process that the terminal's keys do not reach.
func apart() *syscall.SysProcAttr { return &syscall.SysProcAttr{Setpgid: true} }
