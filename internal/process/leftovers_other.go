//go:build !linux

package process

import "time"

// Marks returns no variables here.
func Marks(string) []string { return nil }

// Leftover is a process of a session that is over.
type Leftover struct {
	PID     int
	Unit    string
	Command string
}

// Working is not known here.
func (p *Process) Working() bool { return false }

// readsTerminal is not known here: who has written a line without an end is taken to wait.
func (p *Process) readsTerminal() bool { return true }

// Leftovers finds nothing here.
func Leftovers(string) []Leftover { return nil }

// EndLeftovers does nothing here.
func EndLeftovers(string, time.Duration) {}
