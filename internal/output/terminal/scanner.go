package terminal

import (
	"bytes"
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

// Private modes (DECSET, and additions of terminals), by their numbers.
const (
	cursorKeys   = 1
	cursorShown  = 25
	mouseClicks  = 1000
	mouseDrags   = 1002
	mouseAll     = 1003
	focusEvents  = 1004
	mouseSGR     = 1006
	bracketed    = 2004
	synchronised = 2026
)

// fullScreens are the modes that give a program its own screen.
var fullScreens = []int{47, 1047, 1049}

// longestCut limits how much of an incomplete sequence is kept. Longer ones have no meaning here.
const longestCut = 256

// scanner follows the modes that a program sets, and whether it draws the whole screen. Two ways of drawing are
// distinguished from lines of output: the alternate screen, and moving to a position of the screen and writing there,
// unless that only starts an empty screen.
type scanner struct {
	drawing bool
	own     bool // it is on the alternate screen
	modes   map[int]bool
	cut     []byte // an incomplete sequence

	moved  bool // the cursor was moved to a position, and nothing was written since
	erased bool // the screen was erased, and nothing was written since
	saved  bool // the cursor was saved: what is drawn elsewhere leaves lines unchanged
	odd    bool // there was more than lines with colors since this was reset
}

func newScanner() scanner { return scanner{modes: map[int]bool{}} }

// scan handles what was written; see Terminal.Write. It reports whether the program has queried the terminal.
func (s *scanner) scan(p []byte, lines func([]byte), drew func(bool)) (asked bool) {
	from, at := 0, 0 // the start of what has not been passed to lines; the position of the scan
	turn := func(to int) {
		if s.drawing && to > from {
			lines(p[from:to])
		}
		from = to
		drew(s.drawing)
	}
	for at < len(p) {
		end, text := at, at
		if len(s.cut) == 0 {
			text, end = styledUntil(p, at)
		}
		if text < end && s.text() {
			turn(text)
		}
		if at = end; at == len(p) {
			break
		}
		seq, n := s.sequence(p[at:])
		at += n
		if seq == nil {
			break
		}
		changed, asks := s.act(seq)
		asked = asked || asks
		if changed {
			turn(at)
		}
	}
	if !s.drawing && from < len(p) {
		lines(p[from:])
	}
	return asked
}

// styledUntil returns the position of the first sequence, at or after a position, that does more than styling does, and
// that of the first text before it, or the same if there is none.
func styledUntil(p []byte, at int) (text, end int) {
	for text = -1; at < len(p); {
		n := bytes.IndexByte(p[at:], 0x1b)
		if n < 0 {
			n = len(p) - at
		}
		if n > 0 && text < 0 {
			text = at
		}
		at += n
		if n = styling(p[at:]); n == 0 {
			break
		}
		at += n
	}
	if text < 0 {
		text = at
	}
	return text, at
}

// styling returns the length of the sequence at the beginning of p if it selects a style (SGR) or erases the rest of
// a line (EL), as most sequences in lines of output do; otherwise 0.
func styling(p []byte) int {
	if len(p) < 3 || p[1] != '[' {
		return 0
	}
	for i := 2; i < len(p); i++ {
		switch c := p[i]; {
		case c == 'm' || c == 'K':
			return i + 1
		case c < '0' || c > ';':
			return 0
		}
	}
	return 0
}

// sequence returns the sequence that begins with what was cut, or with p, and how many bytes of p it uses; nil: it is
// incomplete.
func (s *scanner) sequence(p []byte) (seq []byte, n int) {
	whole := p
	if len(s.cut) > 0 {
		whole = slices.Concat(s.cut, p[:min(len(p), longestCut)])
	}
	seq, _, used, state := ansi.DecodeSequence(whole, ansi.NormalState, nil)
	n = used - len(s.cut)
	if state == ansi.NormalState && used > 1 {
		s.cut = s.cut[:0]
		return seq, max(n, 0)
	}
	if len(whole) >= longestCut {
		s.cut = s.cut[:0]
		return []byte{}, max(n, 1)
	}
	s.cut = append(s.cut[:0], whole...)
	return nil, len(p)
}

// text records that text was written, and reports whether drawing has begun with it.
func (s *scanner) text() (begins bool) {
	// A table of processes that begins with an empty screen differs from a tool that clears the screen before each
	// pass: it reads keys, and hides the cursor.
	if s.moved && !s.saved && !s.drawing {
		shown, known := s.modes[cursorShown]
		begins = !s.erased || s.modes[cursorKeys] && known && !shown
		s.drawing = begins
	}
	s.moved, s.erased = false, false
	return begins
}

// act applies a sequence.
func (s *scanner) act(seq []byte) (changed, asks bool) {
	before := s.drawing
	s.odd = true
	body, isCSI := bytes.CutPrefix(seq, []byte("\x1b["))
	switch {
	case string(seq) == "\x1bc": // reset to the initial state
		*s = newScanner()
		return before, false
	case string(seq) == "\x1b7":
		s.saved = true
	case string(seq) == "\x1b8":
		s.saved, s.moved = false, false
	case bytes.HasPrefix(seq, []byte("\x1b]1")) && bytes.Contains(seq, []byte(";?")): // colors
		return false, true
	case !isCSI || len(body) == 0:
	default:
		asks = s.actCSI(body[:len(body)-1], body[len(body)-1])
	}
	return s.drawing != before, asks
}

func (s *scanner) actCSI(params []byte, final byte) (asks bool) {
	switch final {
	case 'h', 'l':
		if list, private := strings.CutPrefix(string(params), "?"); private {
			for p := range strings.SplitSeq(list, ";") {
				if mode, err := strconv.Atoi(p); err == nil {
					s.set(mode, final == 'h')
				}
			}
		}
	case 'H', 'f':
		s.moved = true
	case 'd':
		s.moved = true
	case 'J':
		switch string(params) {
		case "2", "3":
			s.erased = true
			s.drawing = s.drawing && (s.own || s.modes[cursorKeys])
		case "", "0":
			s.erased = s.erased || s.moved
		}
	case 's':
		s.saved = len(params) == 0
	case 'u':
		s.saved, s.moved = false, false
		return string(params) == "?"
	case 'c':
		return true
	case 'n', 'p', 'q':
		version := string(params) == ">" || string(params) == ">0"
		return final == 'n' || version || bytes.HasSuffix(params, []byte("$"))
	}
	return false
}

// set sets a mode.
func (s *scanner) set(mode int, on bool) {
	if _, known := s.modes[mode]; known || len(s.modes) < 100 {
		s.modes[mode] = on
	}
	switch {
	case slices.Contains(fullScreens, mode):
		s.own, s.drawing = on, on
	case s.own:
	case mode == cursorShown && on && !s.modes[cursorKeys], mode == cursorKeys && !on:
		s.drawing, s.moved = false, false // the program had hidden the cursor, or read keys, and has finished
	}
}

// lineModes are the modes that change the position of lines: origin, wrapping, margins.
var lineModes = []int{6, 7, 69}

// modesNow sets the current modes, except those of screens and lines: what is kept was probably written with the
// terminal's defaults.
func (s *scanner) modesNow() []byte {
	var b bytes.Buffer
	for _, mode := range slices.Sorted(maps.Keys(s.modes)) {
		if slices.Contains(fullScreens, mode) || slices.Contains(lineModes, mode) || mode == synchronised {
			continue
		}
		letter := 'l'
		if s.modes[mode] {
			letter = 'h'
		}
		fmt.Fprintf(&b, "\x1b[?%d%c", mode, letter)
	}
	return b.Bytes()
}
