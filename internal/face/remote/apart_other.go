//go:build !unix

package remote

import "syscall"

func apart() *syscall.SysProcAttr { return nil }
