//go:build unix

package guard

import (
	"os/signal"
	"syscall"
)

// ignoreTerminalStops lets the inner program write to the terminal when the shell
// has taken it back already, instead of being stopped.
func ignoreTerminalStops() { signal.Ignore(syscall.SIGTTOU) }
