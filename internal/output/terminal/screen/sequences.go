package screen

import (
	"slices"

	"github.com/charmbracelet/x/ansi"
)

// execute executes a control character.
func (s *Screen) execute(c byte) {
	at := &s.cursor
	switch c {
	case '\b':
		at.x, at.full = max(at.x-1, 0), false
	case '\t':
		s.tab(1)
	case '\n', '\v', '\f':
		if s.newLines {
			at.x = 0
		}
		at.full = false
		s.index()
	case '\r':
		at.x, at.full = 0, false
	case 0x0e: // SO
		at.shifted = 1
	case 0x0f: // SI
		at.shifted = 0
	}
}

// escape executes a sequence of two characters.
func (s *Screen) escape(c byte) {
	at := &s.cursor
	switch c {
	case '7': // DECSC
		s.save()
	case '8': // DECRC
		s.restore()
	case 'D':
		at.full = false
		s.index()
	case 'E': // NEL
		at.x, at.full = 0, false
		s.index()
	case 'H': // HTS
		s.stops[at.x] = true
	case 'M':
		at.full = false
		s.reverseIndex()
	case 'c':
		s.reset(s.cols, s.rows)
	}
}

// designate selects a character set (SCS), or fills the screen with the letter E (DECALN).
func (s *Screen) designate(c byte) {
	switch s.middle {
	case '(', ')', '*', '+':
		set := &s.cursor.sets[s.middle-'(']
		if *set = nil; c == '0' {
			*set = frames
		}
	case '#':
		if c != '8' {
			return
		}
		s.top, s.under = 0, s.rows
		s.move(0, 0)
		s.eraseRows(0, s.rows, Cell{text: 'E', Width: 1})
	}
}

// sequence executes a control sequence. What it counts is at most as much as the screen has.
func (s *Screen) sequence(final byte) {
	switch {
	case s.prefix == '?' && s.middle == 0:
		s.private(final)
	case s.middle == 0 && s.prefix == 0:
		if !s.motion(final) && !s.edit(final) {
			s.other(final)
		}
	case s.middle == '$' && final == 'p':
		s.tellMode()
	case s.middle == ' ' && s.prefix == 0 && final == 'q': // DECSCUSR
		n := max(s.param(0, 1), 1)
		s.look = CursorLook{Shape: min(CursorShape(n-1)/2, Bar), Steady: n%2 == 0}
	case s.middle == '!' && s.prefix == 0 && final == 'p': // DECSTR
		s.softReset()
	case s.prefix == '>' && s.middle == 0 && final == 'c' && s.param(0, 0) == 0: // DA2
		s.answer("\x1b[>1;10;0c")
	}
}

// private executes a sequence of DEC's.
func (s *Screen) private(final byte) {
	switch final {
	case 'h', 'l':
		for i := range s.params {
			s.setMode(s.param(i, 0), final == 'h')
		}
	case 'n':
		s.report(s.param(0, 0))
	case 'J', 'K': // selective: nothing is protected
		s.edit(final)
	}
}

// motion moves the cursor, and reports whether the sequence does.
func (s *Screen) motion(final byte) bool {
	at := s.cursor
	n := s.param(0, 1)
	top, under := 0, s.rows // how far it moves: within the scroll region, if it is there
	if at.y >= s.top {
		top = s.top
	}
	if at.y < s.under {
		under = s.under
	}
	switch final {
	case 'A': // CUU
		s.move(at.x, max(at.y-n, top))
	case 'B': // CUD
		s.move(at.x, min(at.y+n, under-1))
	case 'C', 'a': // CUF, HPR
		s.move(at.x+n, at.y)
	case 'D': // CUB
		s.move(at.x-n, at.y)
	case 'E': // CNL
		s.move(0, min(at.y+n, under-1))
	case 'F': // CPL
		s.move(0, max(at.y-n, top))
	case 'G', '`': // CHA, HPA
		s.move(n-1, at.y)
	case 'H', 'f': // CUP, HVP
		s.position(s.param(1, 1)-1, n-1)
	case 'I': // CHT
		s.tab(min(n, s.cols))
	case 'Z': // CBT
		s.cursor.full = false
		s.tab(-min(n, s.cols))
	case 'd': // VPA
		s.position(at.x, n-1)
	case 'e': // VPR
		s.move(at.x, at.y+n)
	default:
		return false
	}
	return true
}

// move moves the cursor to a cell, or the nearest one that exists.
func (s *Screen) move(x, y int) {
	s.cursor.x, s.cursor.y, s.cursor.full = max(0, min(x, s.cols-1)), max(0, min(y, s.rows-1)), false
}

// position moves the cursor to a position as programs count it, but from 0.
func (s *Screen) position(x, y int) {
	if s.cursor.origin {
		y = min(y+s.top, s.under-1)
	}
	s.move(x, y)
}

// edit erases, inserts and deletes, and reports whether the sequence does.
func (s *Screen) edit(final byte) bool {
	at, blank, n := &s.cursor, s.blank(), s.param(0, 1)
	inRegion := at.y >= s.top && at.y < s.under
	switch final {
	case 'J': // ED
		s.eraseScreen(s.param(0, 0))
	case 'K': // EL
		s.eraseLine(s.param(0, 0))
	case 'X': // ECH
		s.erase(at.y, at.x, min(at.x+n, s.cols), blank)
	case '@': // ICH
		s.shiftRight(at.y, at.x, n, blank)
	case 'P': // DCH
		s.shiftLeft(at.y, at.x, n, blank)
	case 'L', 'M': // IL, DL
		switch {
		case !inRegion:
			return true
		case final == 'L':
			s.scrollDown(at.y, s.under, n, blank)
		default:
			s.scrollUp(at.y, s.under, n, blank)
		}
		at.x = 0
	case 'S': // SU
		s.scrollUp(s.top, s.under, n, blank)
		return true
	case 'T': // SD; with more parameters, a part of mouse tracking
		if len(s.params) < 2 {
			s.scrollDown(s.top, s.under, n, blank)
		}
		return true
	default:
		return false
	}
	at.full = false
	return true
}

// What ED and EL erase.
const (
	toEnd   = 0
	toStart = 1
	whole   = 2
)

func (s *Screen) eraseScreen(what int) {
	at, blank := s.cursor, s.blank()
	switch what {
	case toEnd:
		s.erase(at.y, at.x, s.cols, blank)
		s.eraseRows(at.y+1, s.rows, blank)
	case toStart:
		s.eraseRows(0, at.y, blank)
		s.erase(at.y, 0, at.x+1, blank)
	case whole:
		s.eraseRows(0, s.rows, blank)
	}
}

func (s *Screen) eraseLine(what int) {
	from, to := s.cursor.x, s.cols
	switch what {
	case toStart:
		from, to = 0, from+1
	case whole:
		from = 0
	case toEnd:
	default:
		return
	}
	s.erase(s.cursor.y, from, to, s.blank())
}

// other executes the other control sequences.
func (s *Screen) other(final byte) {
	switch final {
	case 'b': // REP
		s.repeat(s.param(0, 1))
	case 'c': // DA1
		if s.param(0, 0) == 0 {
			s.answer("\x1b[?62;1;6;22c") // a VT220 with 132 columns, selective erase and colors
		}
	case 'g': // TBC
		if n := s.param(0, 0); n == 0 {
			s.stops[s.cursor.x] = false
		} else if n == 3 {
			clear(s.stops)
		}
	case 'h', 'l': // SM, RM
		for i := range s.params {
			switch s.param(i, 0) {
			case insertMode:
				s.insert = final == 'h'
			case newLineMode:
				s.newLines = final == 'h'
			}
		}
	case 'm':
		s.style()
	case 'n':
		s.report(s.param(0, 0))
	case 'r': // DECSTBM
		if top, under := s.param(0, 1)-1, min(s.param(1, s.rows), s.rows); top < under-1 {
			s.top, s.under = top, under
			s.position(0, 0)
		}
	case 's': // SCOSC
		s.save()
	case 'u': // SCORC
		s.restore()
	}
}

// repeat writes the last character again.
func (s *Screen) repeat(n int) {
	if s.repeated == 0 {
		return
	}
	width := max(ansi.StringWidth(s.texts.of(s.repeated)), 1)
	for range min(n, s.cols*s.rows) {
		s.put(s.repeated, width)
	}
}

// save is DECSC.
func (s *Screen) save() {
	s.saved[s.shown] = s.cursor
}

// restore is DECRC; without save, it moves to the first cell, with everything as at first.
func (s *Screen) restore() {
	s.cursor = s.saved[s.shown]
	s.cursor.x, s.cursor.y = min(s.cursor.x, s.cols-1), min(s.cursor.y, s.rows-1)
}

// softReset is DECSTR.
func (s *Screen) softReset() {
	s.top, s.under, s.hidden, s.modes = 0, s.rows, false, defaultModes()
	x, y := s.Cursor()
	s.cursor = cursor{x: x, y: y, pen: empty}
	s.saved[s.shown] = cursor{pen: empty}
}

// Modes of ECMA-48.
const (
	insertMode  = 4
	newLineMode = 20
)

// Modes of DEC, and of xterm (DECSET), that act here; others are only told.
const (
	originMode      = 6
	autoWrap        = 7
	cursorShown     = 25
	ownScreen       = 47
	ownScreenErased = 1047
	savedCursor     = 1048
	ownScreenSaved  = 1049
)

// toldModes are the modes whose state is told to programs that ask; what programs do not find among them, they do
// not use.
var toldModes = []int{
	1, originMode, autoWrap, cursorShown, ownScreen, 1000, 1002, 1003, 1004, 1006, ownScreenErased, savedCursor,
	ownScreenSaved, 2004, 2026,
}

func (s *Screen) setMode(mode int, on bool) {
	if slices.Contains(toldModes, mode) {
		s.told[mode] = on
	}
	switch mode {
	case originMode:
		s.cursor.origin = on
		s.position(0, 0)
	case autoWrap:
		s.noWrap = !on
		s.cursor.full = s.cursor.full && on
	case cursorShown:
		s.hidden = !on
	case ownScreen, ownScreenErased:
		which := main
		if on {
			which = own
		}
		if s.show(which); mode == ownScreenErased && on {
			s.eraseRows(0, s.rows, s.blank())
		}
	case savedCursor:
		if on {
			s.save()
		} else {
			s.restore()
		}
	case ownScreenSaved:
		s.switchScreens(on)
	}
}

// switchScreens shows the program's own screen, empty, or the main screen with the cursor where it was.
func (s *Screen) switchScreens(toOwn bool) {
	switch {
	case toOwn && s.shown == main:
		s.save()
		s.show(own)
		s.eraseRows(0, s.rows, s.blank())
	case !toOwn && s.shown == own:
		s.show(main)
		s.restore()
	}
}
