package guard

import "golang.org/x/sys/unix"

const getModes, setModes = unix.TCGETS, unix.TCSETS
