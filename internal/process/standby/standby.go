// Package standby starts processes in advance: each has its session, terminal and directory, waits without using the
// processor, and executes a program as soon as it is told which.
//
// Go cannot run code between fork and exec, so what waits is a program of its own: some instructions (runner_*.s) in a
// memory file, with a few pages of memory. A process that waits ends when its parent has closed its socket, also by
// being killed. Only Linux on amd64 and arm64 has it. Start reading at Start.
package standby

import "errors"

// ErrUnavailable is wrapped by errors of Start if processes cannot be started in advance on this system.
var ErrUnavailable = errors.New("processes cannot be started in advance")

// ErrGone: the process has ended before it was told to execute anything, or cannot be told. Nothing was executed.
var ErrGone = errors.New("the process that was started in advance is gone")
