//go:build unix

package files

import "syscall"

// nonblock makes opening a pipe not wait for its other side.
const nonblock = syscall.O_NONBLOCK
