//go:build unix

package guard

import "golang.org/x/sys/unix"

// modes are the modes of termios(3).
type modes = unix.Termios

func terminalModes(fd uintptr) (*modes, error) { return unix.IoctlGetTermios(int(fd), getModes) }

func setTerminalModes(fd uintptr, m modes) { unix.IoctlSetTermios(int(fd), setModes, &m) }
