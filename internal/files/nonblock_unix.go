//go:build unix

package files

import "syscall"

// nonblock keeps the opening of a pipe from waiting for its other side.
const nonblock = syscall.O_NONBLOCK
