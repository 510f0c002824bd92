//go:build !linux || !(amd64 || arm64)

package standby

import "os/exec"

// Process is a process that waits; there is none on this system.
type Process struct{ Cmd *exec.Cmd }

// Start returns ErrUnavailable.
func Start(*exec.Cmd, string) (*Process, error) { return nil, ErrUnavailable }

// Tell returns ErrGone.
func (*Process) Tell(string, []string, []string) error { return ErrGone }

// Executed returns ErrGone.
func (*Process) Executed() error { return ErrGone }

// Close does nothing.
func (*Process) Close() {}
