//go:build unix && !linux

package process

import (
	"syscall"
)

// tracker knows only each run's process group: the system has no way to become the parent of orphans, so a process
// that leaves the group is not followed.
type tracker struct{}

func newTracker() tracker { return tracker{} }

func (tracker) add(*Process) {}

func (tracker) drop(*Process) {}

func (tracker) expect(int, bool) {}

func (tracker) lookAhead(*Process) {}

type told struct{}

func (tracker) remind(*Process) {}

func (tracker) signal(p *Process, sig syscall.Signal) error {
	if err := syscall.Kill(-p.PID, sig); err != syscall.ESRCH {
		return err
	}
	return nil
}

func (tracker) alive(p *Process) bool { return syscall.Kill(-p.PID, 0) != syscall.ESRCH }

// BecomeSubreaper does nothing on this system.
func BecomeSubreaper() error { return nil }

// EndDescendants does nothing on this system.
func EndDescendants(func() bool) {}
