package logbook

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"omnivigil/internal/visible"

	"github.com/charmbracelet/x/ansi"
)

// longest is how many bytes of a line without an end are kept together.
const longest = 64 << 10

// Scanner turns the bytes that a process writes to its terminal into lines fit for a
// stream. What acts on the line itself is done: carriage returns, backspaces, erasing,
// movement within the line; so a line that was rewritten counts once, as it last stood.
// Colours and links stay in and end with their line; all else that a terminal acts on
// stays out. The zero value is ready for use.
type Scanner struct {
	// Hide, if set, is given every line before it leaves the scanner, and the
	// pieces of one that is too long. No piece ends within Hold bytes of what is
	// still to come, so that nothing of that length is cut in two unseen.
	Hide func(string) string
	Hold int

	partial []byte
	pen     pen // in use at the end of the last line
	shown   shown
}

// shown is what Pause has returned of a line that had no end.
type shown struct {
	text string
	pen  pen // at its end
}

// Scan returns the lines that p completes.
func (s *Scanner) Scan(p []byte) []string {
	var lines []string
	for {
		i := bytes.IndexByte(p, '\n')
		if i < 0 {
			break
		}
		line := p[:i]
		if len(s.partial) > 0 {
			line = append(s.partial, line...)
			s.partial = s.partial[:0]
		}
		lines = s.add(lines, line)
		p = p[i+1:]
	}
	s.partial = append(s.partial, p...)
	for len(s.partial) > longest+s.Hold {
		if s.Hide != nil {
			s.partial = []byte(s.Hide(string(s.partial)))
		}
		cut := min(longest, len(s.partial))
		if cut == len(s.partial) {
			break // it has become short enough
		}
		for cut > longest-utf8.UTFMax && !utf8.RuneStart(s.partial[cut]) {
			cut--
		}
		lines = s.add(lines, s.partial[:cut])
		s.partial = append(s.partial[:0], s.partial[cut:]...)
	}
	return lines
}

// add appends what a whole line says beyond what Pause has returned of it.
func (s *Scanner) add(lines []string, raw []byte) []string {
	text, after := s.clean(raw)
	s.pen = after
	before := s.shown
	if before.text == "" {
		return append(lines, text)
	}
	s.shown = shown{}
	rest, more := strings.CutPrefix(text, before.text)
	switch {
	case !more: // it was rewritten
		return append(lines, text)
	case ansi.Strip(rest) == "":
		return lines
	}
	return append(lines, before.pen.String()+rest)
}

// Pause returns what has been written after the last line's end, for a stream in which
// nothing has come for a moment: a prompt, say. It returns nothing twice; what a line
// says beyond that comes with its end. Unsure, if set, reports whether a text may end in
// the midst of something that is to be hidden; such a text is not returned.
func (s *Scanner) Pause(unsure func(string) bool) []string {
	if len(s.partial) == 0 {
		return nil
	}
	text, after := s.clean(s.partial)
	rest, more := strings.CutPrefix(text, s.shown.text)
	if strings.TrimSpace(ansi.Strip(rest)) == "" || s.shown.text != "" && !more || unsure != nil && unsure(string(s.partial)) {
		return nil
	}
	if s.shown.text != "" {
		rest = s.shown.pen.String() + rest
	}
	s.shown = shown{strings.TrimSuffix(strings.TrimSuffix(text, noLink), plainColours), after}
	return []string{rest}
}

// Rest returns what was written after the last line's end, if anything, and was not
// returned by Pause.
func (s *Scanner) Rest() []string {
	if len(s.partial) == 0 {
		return nil
	}
	lines := s.add(nil, s.partial)
	s.partial = nil
	if len(lines) == 1 && lines[0] == "" {
		return nil
	}
	return lines
}

func (s *Scanner) clean(line []byte) (string, pen) {
	line = bytes.TrimRight(line, "\r")
	text, after := "", s.pen
	if s.pen == (pen{}) && isPlain(line) {
		text = string(line)
	} else {
		e := editor{pen: s.pen}
		e.write(line)
		text, after = e.String(), e.pen
	}
	if s.Hide != nil {
		text = s.Hide(text)
	}
	return text, after
}

// isPlain reports whether a line is text and nothing else.
func isPlain(line []byte) bool {
	for _, c := range line {
		if c < ' ' && c != '\t' || c >= 0x7f {
			return bytes.IndexByte(line, '\r') < 0 && utf8.Valid(line) && visible.Lines(string(line)) == string(line)
		}
	}
	return true
}
