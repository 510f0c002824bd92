//go:build darwin || dragonfly || freebsd || netbsd || openbsd

package guard

import "golang.org/x/sys/unix"

const getModes, setModes = unix.TIOCGETA, unix.TIOCSETA
