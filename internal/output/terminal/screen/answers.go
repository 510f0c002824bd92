package screen

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"
)

func (s *Screen) answer(text string) {
	const most = 64 << 10 // nobody reads more
	if len(s.answers)+len(text) <= most {
		s.answers = append(s.answers, text...)
	}
}

// report tells that all is well, or where the cursor is (DSR).
func (s *Screen) report(what int) {
	const well, position = 5, 6
	x, y := s.Cursor()
	if s.cursor.origin {
		y -= s.top
	}
	switch {
	case what == well && s.prefix == 0:
		s.answer("\x1b[0n")
	case what == position && s.prefix == 0:
		s.answer(fmt.Sprintf("\x1b[%d;%dR", y+1, x+1))
	case what == position:
		s.answer(fmt.Sprintf("\x1b[?%d;%dR", y+1, x+1))
	}
}

// tellMode tells the state of a mode (DECRQM).
func (s *Screen) tellMode() {
	const unknown, set, reset = 0, 1, 2
	mode, state := s.param(0, 0), unknown
	on, known := false, false
	if s.prefix == '?' {
		on, known = s.told[mode], slices.Contains(toldModes, mode)
	} else {
		switch mode {
		case insertMode:
			on, known = s.insert, true
		case newLineMode:
			on, known = s.newLines, true
		}
	}
	switch {
	case on:
		state = set
	case known:
		state = reset
	}
	prefix := ""
	if s.prefix == '?' {
		prefix = "?"
	}
	s.answer(fmt.Sprintf("\x1b[%s%d;%d$y", prefix, mode, state))
}

// Colors that can be set and asked for (OSC), and the distance to the commands that reset them.
const (
	foreground  = 10
	background  = 11
	cursorColor = 12
	resetting   = 100
)

// operate executes an operating system command: titles, and the terminal's own colors.
func (s *Screen) operate() {
	number, text, _ := strings.Cut(string(s.operation), ";")
	n, err := strconv.Atoi(number)
	switch {
	case err != nil:
	case n == 0 || n == 2:
		s.title = text
	case n >= foreground+resetting && n <= cursorColor+resetting:
		s.colors[n-resetting] = ""
	case n < foreground || n > cursorColor:
	case text != "?":
		if c := ansi.XParseColor(text); c != nil {
			s.colors[n] = ansi.XRGBColor{Color: c}.String()
		}
	default:
		color := s.colors[n]
		if color == "" && n == background {
			color = "rgb:0000/0000/0000"
		} else if color == "" {
			color = "rgb:ffff/ffff/ffff"
		}
		s.answer(fmt.Sprintf("\x1b]%d;%s\a", n, color))
	}
}
