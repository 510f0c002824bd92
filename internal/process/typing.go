package process

import (
	"errors"
	"fmt"
	"time"
)

// typePatience limits the wait for a process that does not read what is typed.
const typePatience = 2 * time.Second

// errNoInput: nothing can be typed into a process.
var errNoInput = errors.New("it has no terminal")

// TypeEnd types a text that should end it into the process's terminal. It blocks for a moment if the process does not
// read.
func (p *Process) TypeEnd(text string) error {
	p.asked.Store(true)
	return p.Type([]byte(text))
}

// Type types into the process's terminal. It blocks for a moment if the process does not read.
func (p *Process) Type(text []byte) error {
	if p.tty == nil || p.spec.Terminal == NoTerminal {
		return errNoInput
	}
	p.tty.SetWriteDeadline(time.Now().Add(typePatience)) // without a deadline, the write may block
	if _, err := p.tty.Write(text); err != nil && !p.ended.Load() {
		return fmt.Errorf("type into the terminal of process %d, which does not read: %w", p.PID, err)
	}
	return nil
}

// Answer types the answer to a query that the process has sent to its terminal. It does not block: a process that
// does not read gets no answer.
func (p *Process) Answer(text []byte) {
	if p.tty != nil && p.spec.Terminal != NoTerminal {
		writeNow(p.tty, text)
	}
}

// Resize changes the size of its terminal, and notifies the process.
func (p *Process) Resize(cols, rows int) error {
	if p.tty == nil || p.spec.Terminal == NoTerminal {
		return errNoInput
	}
	return resize(p.tty, cols, rows)
}

// Reading is how a process reads what is typed.
type Reading struct {
	Waits bool // it is waiting for input, or reads keys one by one
	Blind bool // input is not shown and read by line: a password
}

// Reading returns how the process reads what is typed. With far it also looks at what its processes are blocked in,
// which takes longer. It does not block.
func (p *Process) Reading(far bool) Reading {
	if p.tty == nil || p.spec.Terminal == NoTerminal || p.ended.Load() {
		return Reading{}
	}
	echoes, byLine := terminalModes(p.tty)
	return Reading{Waits: !byLine || !echoes || far && p.readsTerminal(), Blind: byLine && !echoes}
}
