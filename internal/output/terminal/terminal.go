// Package terminal knows what a process's terminal shows: it keeps what was written to it, and computes cells when a
// face looks.
//
// While no face looks, only the last bytes are kept: writing costs a copy and a search for escape characters. When a
// face looks, an emulator receives those bytes and everything that follows; lines that scrolled out of the kept bytes
// cannot be seen on a screen any more. A program that draws the whole screen builds on what it drew before, so it has
// an emulator from its first drawing on, and so has one that queries its terminal.
//
// The package does not read or write the process's terminal itself, and keeps no history; that is the log's job.
// Start reading at Terminal.
package terminal

import (
	"bytes"
	"slices"
	"sync"

	"omnivigil/internal/api"
)

// kept is how many of the last bytes are kept. Screens that are written line by line are made of fewer.
const kept = 64 << 10

// Terminal is one terminal. Its methods may be called from any goroutine and do not block, except Write.
type Terminal struct {
	answer func([]byte)
	parts  []part // of what is being written

	mu       sync.Mutex
	size     api.Size
	tail     []byte // the last bytes, at most twice as many as are kept
	trimmed  bool   // there were more
	scan     scanner
	emulator *emulator // nil while no face looks and nothing is drawn
	lookers  map[chan struct{}]bool
	since    int // how many bytes have come since the emulator was of use
	behind   int // how many of the last bytes it has not had yet
	number   int64
	closed   bool
}

// New returns a terminal. Answers to what a program asks its terminal are given to answer, which must
// not block.
func New(size api.Size, answer func([]byte)) *Terminal {
	return &Terminal{size: size, answer: answer, lookers: map[chan struct{}]bool{}, scan: newScanner()}
}

// Write takes what a process has written. What belongs to its lines of output is given to lines, in
// pieces, as it was written; drew is called where the program begins, true, or ends, false, to draw
// the whole screen, which is no output. Calls must come one after the other; others need not wait for lines
// and drew.
func (t *Terminal) Write(p []byte, lines func([]byte), drew func(begins bool)) {
	t.parts = t.parts[:0]
	t.take(p)
	for _, part := range t.parts {
		if part.lines != nil {
			lines(part.lines)
		} else {
			drew(part.draws)
		}
	}
}

// part is a piece of what was written that lines are made of, or that drawing begins or ends.
type part struct {
	lines []byte
	draws bool
}

// take takes what was written, and notes its parts.
func (t *Terminal) take(p []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	began := t.scan.drawing
	asked := t.scan.scan(
		p,
		func(p []byte) { t.parts = append(t.parts, part{lines: p}) },
		func(begins bool) { t.parts = append(t.parts, part{draws: begins}) },
	)
	now := (began || t.scan.drawing || asked) && !t.closed // the emulator has to have them
	if t.emulator != nil && now {
		t.catchUp()
	}
	t.keep(p)
	if t.emulator == nil && now {
		t.emulate(len(p))
	}
	if t.emulator != nil {
		if now {
			t.feed(p)
		} else {
			t.behind += len(p)
		}
		if t.since += len(p); now || len(t.lookers) > 0 {
			t.since = 0
		} else if t.since > 2*kept { // what is kept shows the same
			t.emulator.close()
			t.emulator = nil
		}
	}
	t.number++
	for c := range t.lookers {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// keep keeps the last bytes.
func (t *Terminal) keep(p []byte) {
	if over := len(p) - kept; over > 0 {
		p, t.tail, t.trimmed = p[over:], t.tail[:0], true
	}
	if len(t.tail)+len(p) > 2*kept {
		t.tail, t.trimmed = append(t.tail[:0], t.tail[len(t.tail)-kept:]...), true
	}
	t.tail = append(t.tail, p...)
}

// emulate begins an emulator with what is kept, except the last bytes.
func (t *Terminal) emulate(but int) {
	if t.emulator != nil {
		t.emulator.close()
	}
	t.emulator, t.since, t.behind = newEmulator(t.size), 0, 0
	go t.emulator.answer(t.answer)
	before := t.tail[:len(t.tail)-min(but, len(t.tail))]
	if t.trimmed { // what was set before that is as it is now, at the end
		before = slices.Concat(t.scan.modesNow(), before[bytes.IndexByte(before, '\n')+1:])
	}
	t.feed(before)
	t.emulator.caughtUp()
}

// catchUp gives the emulator what it has not had yet. Of much that is nothing but lines, it gets those that
// are still to be seen: it takes a hundred times as long over a line as the log does.
func (t *Terminal) catchUp() {
	if t.behind == 0 {
		return
	}
	const little = 16 << 10
	missed := t.tail[max(len(t.tail)-t.behind, 0):]
	switch {
	case t.behind > little && !t.scan.odd && !t.emulator.IsAltScreen():
		t.feed(slices.Concat([]byte("\x1b[m\x1b[2J\x1b[H"), lastLines(missed, t.size.Rows)))
	case t.behind > len(missed):
		t.emulate(0)
	default:
		t.feed(missed)
	}
	t.behind, t.scan.odd = 0, false
}

// lastLines is the end of a text, from so many lines back.
func lastLines(p []byte, lines int) []byte {
	from := len(p)
	for ; lines > 0 && from > 0; lines-- {
		from = bytes.LastIndexByte(p[:from], '\n')
	}
	return p[from+1:]
}

// feed writes to the emulator. Foreign bytes that it fails on cost what it showed.
func (t *Terminal) feed(p []byte) {
	defer func() {
		if failed := recover(); failed != nil {
			t.emulator.close()
			t.emulator = newEmulator(t.size)
			go t.emulator.answer(t.answer)
			t.emulator.caughtUp()
			t.emulator.WriteString("(what was here could not be shown)\r\n")
		}
	}()
	t.emulator.write(p)
}

// Resize gives it another size. What was written before is not laid out again.
func (t *Terminal) Resize(size api.Size) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if size == t.size {
		return
	}
	t.size = size
	if t.emulator != nil {
		t.catchUp()
		t.emulator.resize(size)
	}
	t.number++
}

// Size is its size.
func (t *Terminal) Size() api.Size {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.size
}

// Drawing reports whether the program draws the whole screen.
func (t *Terminal) Drawing() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.scan.drawing
}

// Look has an emulator at work, and a value in the channel after every change, until the function that
// is returned is called.
func (t *Terminal) Look() (changed <-chan struct{}, end func()) {
	c := make(chan struct{}, 1)
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.emulator == nil && !t.closed {
		t.emulate(0)
	}
	t.lookers[c] = true
	return c, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		delete(t.lookers, c)
	}
}

// Close ends what is at work for it. There is nothing to see any more.
func (t *Terminal) Close() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.closed = true
	if t.emulator != nil {
		t.emulator.close()
		t.emulator = nil
	}
}

// Settled reports whether the program is not in the middle of a change that it wants to be shown as one
// (synchronised output, private mode 2026).
func (t *Terminal) Settled() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return !t.scan.modes[synchronised]
}
