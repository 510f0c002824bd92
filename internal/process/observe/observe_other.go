//go:build !linux || !(amd64 || arm64)

package observe

import (
	"fmt"
	"os/exec"
	"runtime"
)

// Observer is a command that is to be observed.
type Observer struct{}

// Available returns why processes cannot be observed on this system; nil: they can.
func Available() error {
	return fmt.Errorf("%w on %s/%s; it is possible on linux/amd64 and linux/arm64", ErrUnavailable, runtime.GOOS,
		runtime.GOARCH)
}

// Prepare always fails; see Available.
func Prepare(*exec.Cmd) (*Observer, error) { return nil, Available() }

// Attach always fails; see Available.
func (*Observer) Attach(*Log) error { return Available() }

// Close does nothing.
func (*Observer) Close() {}
