// Package terminal knows what a process's terminal shows: it keeps what was written to it, and computes cells when a
// face looks.
//
// While no face looks, only the last bytes are kept: writing costs a copy and a search for escape characters. When a
// face looks, a screen (package screen) receives those bytes and everything that follows; lines that scrolled out of
// the kept bytes cannot be seen on it any more. A program that draws the whole screen builds on what it drew before, so
// it has a screen from its first drawing on, and so has one that queries its terminal.
//
// The package does not read or write the process's terminal itself, and keeps no history; that is the log's job.
// Start reading at Terminal.
package terminal

import (
	"bytes"
	"slices"
	"sync"

	"omnivigil/internal/api"
	"omnivigil/internal/output/terminal/screen"
)

// Terminal is one terminal. Its methods may be called from any goroutine and do not block, except Write.
type Terminal struct {
	answer func([]byte)
	parts  []part // of the current write

	mu      sync.Mutex
	size    api.Size
	tail    tail
	scan    scanner
	screen  *screen.Screen   // nil while no face looks and nothing is drawn
	last    []api.ScreenLine // of the last picture of it
	lookers map[chan struct{}]bool
	since   int // bytes since the screen was last needed
	behind  int // how many of the last bytes it has not received
	number  int64
	closed  bool
}

// New returns a terminal. Answers to the program's queries are passed to answer, which must not block.
func New(size api.Size, answer func([]byte)) *Terminal {
	return &Terminal{size: size, answer: answer, lookers: map[chan struct{}]bool{}, scan: newScanner()}
}

// Write handles what a process has written. Lines of output are passed to lines, in pieces, unchanged; drew is called
// when the program begins (true) or stops (false) drawing the whole screen, which is not output. Calls must not
// overlap; other methods need not wait for lines and drew.
func (t *Terminal) Write(p []byte, lines func([]byte), drew func(begins bool)) {
	t.parts = t.parts[:0]
	if answers := t.take(p); len(answers) > 0 {
		t.answer(answers)
	}
	for _, part := range t.parts {
		if part.lines != nil {
			lines(part.lines)
		} else {
			drew(part.draws)
		}
	}
	clear(t.parts) // they are of the caller's bytes
}

// part is a piece of a write: lines of output, or the begin or end of drawing.
type part struct {
	lines []byte
	draws bool
}

// take handles a write, records its parts, and returns the answers to questions in it.
func (t *Terminal) take(p []byte) (answers []byte) {
	t.mu.Lock()
	defer t.mu.Unlock()
	began := t.scan.drawing
	asked := t.scan.scan(
		p,
		func(p []byte) { t.parts = append(t.parts, part{lines: p}) },
		func(begins bool) { t.parts = append(t.parts, part{draws: begins}) },
	)
	now := (began || t.scan.drawing || asked) && !t.closed // the screen must receive them
	if t.screen != nil && now {
		t.catchUp()
	}
	t.tail.add(p)
	if t.screen == nil && now {
		t.emulate(len(p))
	}
	if t.screen != nil {
		if now {
			t.feed(p)
			answers = t.screen.Answers()
		} else {
			t.behind += len(p)
		}
		if t.since += len(p); now || len(t.lookers) > 0 {
			t.since = 0
		} else if t.since > 2*kept { // the kept bytes show the same
			t.screen, t.last = nil, nil
		}
	}
	t.number++
	for c := range t.lookers {
		select {
		case c <- struct{}{}:
		default:
		}
	}
	return answers
}

// emulate makes a screen of the kept bytes, except the last ones. What the program asked in them is not answered: it
// got no answer then, and no longer waits.
func (t *Terminal) emulate(but int) {
	t.screen, t.last, t.since, t.behind = screen.New(t.size.Cols, t.size.Rows), nil, 0, 0
	before := t.tail.last(kept)
	before = before[:len(before)-min(but, len(before))]
	if t.tail.trimmed { // what was set before is set at the end, as it is now
		before = slices.Concat(t.scan.modesNow(), before[bytes.IndexByte(before, '\n')+1:])
	}
	t.feed(before)
	t.screen.Answers()
}

// catchUp passes to the screen what it has not received. Of a long text that is only lines, it receives those that
// are still visible.
func (t *Terminal) catchUp() {
	if t.behind == 0 {
		return
	}
	const little = 16 << 10
	missed := t.tail.last(t.behind)
	switch {
	case t.behind > little && !t.scan.odd && !t.screen.OnOwn():
		t.feed(slices.Concat([]byte("\x1b[m\x1b[2J\x1b[H"), lastLines(missed, t.size.Rows)))
	case t.behind > len(missed):
		t.emulate(0)
	default:
		t.feed(missed)
	}
	t.behind, t.scan.odd = 0, false
}

// lastLines is the end of a text, from so many lines before it.
func lastLines(p []byte, lines int) []byte {
	from := len(p)
	for ; lines > 0 && from > 0; lines-- {
		from = bytes.LastIndexByte(p[:from], '\n')
	}
	return p[from+1:]
}

// feed writes to the screen. Bytes on which it panics cost what it showed, and not the project.
func (t *Terminal) feed(p []byte) {
	defer func() {
		if failed := recover(); failed != nil {
			t.screen, t.last = screen.New(t.size.Cols, t.size.Rows), nil
			t.screen.Write([]byte("(what was here could not be shown)\r\n"))
		}
	}()
	t.screen.Write(p)
}

// Resize sets another size. Earlier lines are not reflowed.
func (t *Terminal) Resize(size api.Size) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if size == t.size {
		return
	}
	t.size = size
	if t.screen != nil {
		t.catchUp()
		t.screen.Resize(size.Cols, size.Rows)
	}
	t.number++
}

// Size is the size.
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

// Look keeps the screen up to date, and sends a value to the channel after every change, until the returned function is
// called.
func (t *Terminal) Look() (changed <-chan struct{}, end func()) {
	c := make(chan struct{}, 1)
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.screen == nil && !t.closed {
		t.emulate(0)
	}
	t.lookers[c] = true
	return c, func() {
		t.mu.Lock()
		defer t.mu.Unlock()
		delete(t.lookers, c)
	}
}

// Close ends it. There is nothing to see any more.
func (t *Terminal) Close() {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.closed = true
	t.screen, t.last = nil, nil
}

// Settled reports whether the program is not in the middle of a change that it wants to be shown as one
// (synchronised output, private mode 2026).
func (t *Terminal) Settled() bool {
	t.mu.Lock()
	defer t.mu.Unlock()
	return !t.scan.modes[synchronised]
}
