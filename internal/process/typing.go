package process

import (
	"errors"
	"fmt"
	"time"
)

// typePatience bounds the wait for a process that does not read what is typed.
const typePatience = 2 * time.Second

// errNoInput says that nothing can be typed into a process.
var errNoInput = errors.New("it has no terminal")

// TypeEnd types a text that is to end it into the process's terminal. It blocks while the process does
// not read, for a moment.
func (p *Process) TypeEnd(text string) error {
	p.asked.Store(true)
	return p.Type([]byte(text))
}

// Type types into the process's terminal. It blocks while the process does not read, for a moment.
func (p *Process) Type(text []byte) error {
	if p.tty == nil || p.spec.Terminal == NoTerminal {
		return errNoInput
	}
	p.tty.SetWriteDeadline(time.Now().Add(typePatience)) // where it has none, the write may block
	if _, err := p.tty.Write(text); err != nil && !p.ended.Load() {
		return fmt.Errorf("type into the terminal of process %d, which does not read: %w", p.PID, err)
	}
	return nil
}

// Answer types what answers a question that the process has asked its terminal. It does not block: a
// process that does not read gets no answer.
func (p *Process) Answer(text []byte) {
	if p.tty != nil && p.spec.Terminal != NoTerminal {
		writeNow(p.tty, text)
	}
}

// Resize gives its terminal another size, about which it is notified.
func (p *Process) Resize(cols, rows int) error {
	if p.tty == nil || p.spec.Terminal == NoTerminal {
		return errNoInput
	}
	return resize(p.tty, cols, rows)
}

// Reading is how a process takes what is typed.
type Reading struct {
	Waits bool // it is known to wait for it, or reads keys one by one
	Blind bool // what is typed is not shown, and taken line by line: a password
}

// Reading looks how the process takes what is typed; with far, also at what its processes wait in, which
// takes longer. It does not block.
func (p *Process) Reading(far bool) Reading {
	if p.tty == nil || p.spec.Terminal == NoTerminal || p.ended.Load() {
		return Reading{}
	}
	echoes, byLine := terminalModes(p.tty)
	return Reading{Waits: !byLine || !echoes || far && p.readsTerminal(), Blind: byLine && !echoes}
}
