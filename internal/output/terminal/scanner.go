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

// Private modes (DECSET, and what terminals have added to it), by their numbers.
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

// fullScreens are the modes that give a program a screen of its own.
var fullScreens = []int{47, 1047, 1049}

// longestCut is how much of a sequence that is not whole is kept. Longer ones say nothing here.
const longestCut = 256

// scanner follows which modes a program sets, and whether it draws the whole screen. Two ways are distinguished
// from output that lines are made of: a screen of its own (the "alternate screen"), and going back to
// a place of the screen to draw there, as long as that is not done to begin with an empty one.
type scanner struct {
	drawing bool
	own     bool // it is on a screen of its own
	modes   map[int]bool
	cut     []byte // a sequence whose end has not come

	moved  bool // the cursor has been sent to a place, and nothing has been said since
	erased bool // the screen has been erased, and nothing has been said since
	saved  bool // the cursor's place was saved: what is drawn elsewhere leaves lines as they are
	odd    bool // there was more than lines with colors, since this was set back
}

func newScanner() scanner { return scanner{modes: map[int]bool{}} }

// scan takes what was written; see Terminal.Write. It reports whether the program has asked something.
func (s *scanner) scan(p []byte, lines func([]byte), drew func(bool)) (asked bool) {
	from, at := 0, 0 // of what belongs to lines and was not given to them; of what is looked at
	turn := func(to int) {
		if s.drawing && to > from {
			lines(p[from:to])
		}
		from = to
		drew(s.drawing)
	}
	for at < len(p) {
		end := at
		if len(s.cut) == 0 {
			if end = bytes.IndexByte(p[at:], 0x1b); end < 0 {
				end = len(p)
			} else {
				end += at
			}
		}
		if end > at && s.text() {
			turn(at)
		}
		if at = end; at == len(p) {
			break
		}
		if n := styling(p[at:]); n > 0 && len(s.cut) == 0 {
			at += n
			continue
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

// styling returns the length of the sequence that p begins with if that selects a style (SGR) or erases the
// rest of a line (EL), as most do in what is written line by line; else 0.
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

// sequence returns the sequence that begins with what was cut, or with p, and how many bytes of p are
// used up; nil where its end has not come.
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

// text notes that something is said, and reports whether drawing has begun with it.
func (s *scanner) text() (begins bool) {
	// A table of processes that begins with an empty screen is distinguished from a tool that clears it before
	// each pass by its taking keys, without a cursor.
	shown, known := s.modes[cursorShown]
	begins = s.moved && !s.saved && !s.drawing && (!s.erased || s.modes[cursorKeys] && known && !shown)
	s.moved, s.erased = false, false
	if begins {
		s.drawing = true
	}
	return begins
}

// act follows what a sequence does.
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
		asks = s.actCSI(string(body[:len(body)-1]), body[len(body)-1])
	}
	return s.drawing != before, asks
}

func (s *scanner) actCSI(params string, final byte) (asks bool) {
	switch final {
	case 'h', 'l':
		if list, private := strings.CutPrefix(params, "?"); private {
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
		s.erased = s.erased || params == "2" || params == "3" || params == "" && s.moved || params == "0" && s.moved
		if (params == "2" || params == "3") && !s.own {
			s.drawing = s.drawing && s.modes[cursorKeys]
		}
	case 's':
		s.saved = params == ""
	case 'u':
		s.saved, s.moved = false, false
		return params == "?"
	case 'c':
		return true
	case 'n', 'p', 'q':
		return final == 'n' || strings.HasSuffix(params, "$") || params == ">" || params == ">0"
	}
	return false
}

// set notes a mode.
func (s *scanner) set(mode int, on bool) {
	if _, known := s.modes[mode]; known || len(s.modes) < 100 {
		s.modes[mode] = on
	}
	switch {
	case slices.Contains(fullScreens, mode):
		s.own, s.drawing = on, on
	case s.own:
	case mode == cursorShown && on && !s.modes[cursorKeys], mode == cursorKeys && !on:
		s.drawing, s.moved = false, false // who has hidden the cursor to draw, or taken keys, is done
	}
}

// lineModes are the modes that change how lines come to stand: origin, wrapping, margins.
var lineModes = []int{6, 7, 69}

// modesNow sets the modes as they are, except those of screens and lines: what is kept was written with
// others, as likely as not those that a terminal begins with.
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
