//go:build !linux

package process

import "time"

// Marks returns no variables on this system.
func Marks(string) []string { return nil }

// Leftover is a process of an earlier session.
type Leftover struct {
	PID     int
	Unit    string
	Command string
}

// Working is unknown on this system.
func (p *Process) Working() bool { return false }

// readsTerminal is unknown on this system: a process with an unfinished line counts as waiting.
func (p *Process) readsTerminal() bool { return true }

// Leftovers finds nothing on this system.
func Leftovers(string) []Leftover { return nil }

// EndLeftovers does nothing on this system.
func EndLeftovers(string, time.Duration) {}
