package terminal

import (
	"bytes"
	"io"
	"slices"
	"unicode/utf8"

	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/ansi/parser"
	"github.com/charmbracelet/x/vt"

	"omnivigil/internal/api"
)

// emulator is vt's emulator with fixes for what vt 0.1.0 does differently from terminals.
type emulator struct {
	*vt.Emulator
	title string // the window title set by the program

	top, bottom int              // the scroll region: its first row, and the row after its last
	state       byte             // of ansi.DecodeSequence
	cut         []byte           // of an incomplete character
	flat        bool             // lines do not continue in the next row
	last        []api.ScreenLine // of the last picture
	other       bool             // another screen is shown since
	full        bool             // a wide character has filled a row to its end: the next one goes into the next row
}

func newEmulator(size api.Size) *emulator {
	e := &emulator{Emulator: vt.NewEmulator(max(size.Cols, 1), max(size.Rows, 1))}
	e.bottom = e.Height()
	e.SetScrollbackSize(1) // the log has the lines that have scrolled away
	wraps := func(on bool) func(ansi.Mode) {
		return func(mode ansi.Mode) {
			if mode == ansi.ModeAutoWrap {
				e.flat = !on
			}
		}
	}
	e.SetCallbacks(
		vt.Callbacks{Title: func(title string) { e.title = title }, EnableMode: wraps(true), DisableMode: wraps(false),
			AltScreen: func(bool) { e.other = true }},
	)
	e.mend()
	return e
}

// write is Write, except that a wide character that does not fit into a row goes into the next one, and so does a
// character after a wide one that has just filled a row.
func (e *emulator) write(p []byte) {
	if len(e.cut) > 0 {
		p, e.cut = slices.Concat(e.cut, p), nil
	}
	if !e.full && e.state == ansi.NormalState && isASCII(p) && !bytes.ContainsRune(p, 0x1b) {
		e.Write(p)
		return
	}
	from := 0 // of what has not been written
	flush := func(to int) {
		if to > from {
			e.Write(p[from:to])
		}
		from = to
	}
	for at := 0; at < len(p); {
		if e.state == ansi.NormalState && p[at] >= utf8.RuneSelf && !utf8.FullRune(p[at:]) {
			flush(at)
			e.cut = bytes.Clone(p[at:])
			return
		}
		seq, width, n, state := ansi.DecodeSequence(p[at:], e.state, nil)
		text := e.state == ansi.NormalState && width > 0
		e.state = state
		if e.full {
			flush(at)
			if e.full = false; text && !e.flat {
				e.WriteString(goOn)
			}
		}
		if text && width > 1 {
			flush(at)
			e.wide(seq, width)
			from = at + n
		}
		at += max(n, 1)
	}
	flush(len(p))
}

// goOn continues in the next row: carriage return, index (ECMA-48, IND).
const goOn = "\r\x1bD"

func isASCII(p []byte) bool {
	for _, c := range p {
		if c >= utf8.RuneSelf {
			return false
		}
	}
	return true
}

// wide writes a wide character.
func (e *emulator) wide(text []byte, width int) {
	left := e.Width() - e.CursorPosition().X
	if left < width && !e.flat {
		e.WriteString(goOn)
	}
	e.full = e.Width()-e.CursorPosition().X == width
	e.Write(text)
}

// mend registers handlers where vt differs from terminals. The newest handlers of a sequence come first.
func (e *emulator) mend() {
	for final := '@'; final <= '~'; final++ {
		e.RegisterCsiHandler(int(final), func(params ansi.Params) bool {
			bound(params)
			return false
		})
	}
	e.RegisterCsiHandler('n', func(params ansi.Params) bool {
		const status, fine = 5, "\x1b[0n" // ECMA-48, DSR; vt answers in DEC's private form
		if n, _, _ := params.Param(0, 0); n != status {
			return false
		}
		io.WriteString(e.InputPipe(), fine)
		return true
	})
	e.RegisterCsiHandler('J', func(params ansi.Params) bool {
		const above = 1 // ECMA-48, ED: up to the cursor; vt erases the rest of the line, too
		n, _, _ := params.Param(0, 0)
		if n == above {
			e.eraseAbove()
		}
		return n == above
	})
	e.RegisterEscHandler('c', func() bool { // reset
		e.top, e.bottom, e.other, e.flat = 0, e.Height(), true, false
		return false
	})
	e.RegisterCsiHandler('r', func(params ansi.Params) bool {
		top, _, _ := params.Param(0, 1)
		bottom, _, _ := params.Param(1, e.Height())
		e.top, e.bottom = top-1, bottom
		return false
	})
	// ECMA-48, ICH and DCH: vt ignores them outside of the scroll region, and loses wide characters.
	e.RegisterCsiHandler('@', func(params ansi.Params) bool {
		n, _, _ := params.Param(0, 1)
		return e.shift(max(n, 1))
	})
	e.RegisterCsiHandler('P', func(params ansi.Params) bool {
		n, _, _ := params.Param(0, 1)
		return e.shift(-max(n, 1))
	})
}

func (e *emulator) eraseAbove() {
	at := e.CursorPosition()
	for y := range at.Y + 1 {
		for x := 0; x < e.Width() && (y < at.Y || x <= at.X); x++ {
			e.SetCell(x, y, nil)
		}
	}
}

// shift moves the cells from the cursor on to the right or left, where vt would not, and reports whether it has.
func (e *emulator) shift(by int) bool {
	at := e.CursorPosition()
	row, wide := make([]uv.Cell, e.Width()), false
	for x := range row {
		if c := e.CellAt(x, at.Y); c != nil {
			row[x] = *c
			wide = wide || c.Width != 1
		}
	}
	if !wide && at.Y >= e.top && at.Y < e.bottom {
		return false
	}
	by = max(-(len(row) - at.X), min(by, len(row)-at.X))
	moved := slices.Clone(row[at.X:])
	blank := slices.Repeat([]uv.Cell{uv.EmptyCell}, max(by, -by))
	if by > 0 {
		moved = append(blank, moved[:len(moved)-by]...)
	} else {
		moved = append(moved[-by:], blank...)
	}
	for x := range moved { // first empty cells, so that no halves are left
		e.SetCell(at.X+x, at.Y, nil)
	}
	for x, c := range moved {
		if c.Width > 0 && x+c.Width <= len(moved) {
			e.SetCell(at.X+x, at.Y, &c)
		}
	}
	return true
}

// bound limits counts and positions to what a terminal can have: vt takes any number literally, and would erase a
// thousand million cells one by one.
func bound(params ansi.Params) {
	for i, p := range params {
		if p.Param(0) > api.MaxCells {
			params[i] = api.MaxCells | p&parser.HasMoreFlag
		}
	}
}

// caught is written among the answers before those to what is written from then on.
const caught = "\x00caught up\x00"

// caughtUp passes on the answers to all queries from now on: the program got none to its earlier ones, and no longer
// waits.
func (e *emulator) caughtUp() { io.WriteString(e.InputPipe(), caught) }

// answer passes on answers until the emulator is closed. The emulator waits for it whenever it answers.
func (e *emulator) answer(to func([]byte)) {
	answers := false
	buf := make([]byte, 4<<10)
	for {
		n, err := e.Read(buf)
		switch {
		case err != nil:
			return
		case string(buf[:n]) == caught:
			answers = true
		case answers:
			to(bytes.Clone(buf[:n]))
		}
	}
}

// close ends answer. Emulator.Close would set what its Read checks in another goroutine.
func (e *emulator) close() { e.InputPipe().(io.Closer).Close() }

// resize keeps the cursor's line on the screen when the screen gets lower, as terminals do.
func (e *emulator) resize(size api.Size) {
	if over := e.CursorPosition().Y - (size.Rows - 1); over > 0 && !e.IsAltScreen() {
		e.WriteString(ansi.ScrollUp(over) + ansi.CursorUp(over))
	}
	e.Resize(max(size.Cols, 1), max(size.Rows, 1))
	e.top, e.bottom, e.full, e.other = 0, e.Height(), false, true
}
