package logbook

import (
	"bytes"
	"strings"
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
)

// longest is how many bytes of a line without an end are kept together.
const longest = 64 << 10

// Scanner turns the bytes that a process writes to its terminal into lines fit
// for a stream: colours and links stay in, cursor movement and screen clearing
// stay out, and a line that was rewritten with carriage returns counts once, as
// it last stood. The zero value is ready for use.
type Scanner struct {
	// Hide, if set, is given every line before it leaves the scanner, and the
	// pieces of one that is too long. No piece ends within Hold bytes of what is
	// still to come, so that nothing of that length is cut in two unseen.
	Hide func(string) string
	Hold int

	partial []byte
	pen     string // colours still in force at the end of the last line
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
		lines = append(lines, s.clean(line))
		p = p[i+1:]
	}
	s.partial = append(s.partial, p...)
	for len(s.partial) > longest+s.Hold {
		if s.Hide != nil {
			s.partial = []byte(s.Hide(string(s.partial)))
		}
		cut := longest
		if cut = min(cut, len(s.partial)); cut == len(s.partial) {
			break // it has become short enough
		}
		for cut > longest-utf8.UTFMax && !utf8.RuneStart(s.partial[cut]) {
			cut--
		}
		lines = append(lines, s.clean(s.partial[:cut]))
		s.partial = append(s.partial[:0], s.partial[cut:]...)
	}
	return lines
}

// Rest returns what was written after the last line's end, if anything.
func (s *Scanner) Rest() []string {
	if len(s.partial) == 0 {
		return nil
	}
	line := s.clean(s.partial)
	s.partial = nil
	if line == "" {
		return nil
	}
	return []string{line}
}

func (s *Scanner) clean(line []byte) string {
	text := s.plain(line)
	if s.Hide != nil {
		text = s.Hide(text)
	}
	return text
}

func (s *Scanner) plain(line []byte) string {
	line = bytes.TrimRight(line, "\r")
	if i := bytes.LastIndexByte(line, '\r'); i >= 0 {
		line = line[i+1:]
	}
	if s.pen == "" && isPlain(line) {
		return string(line)
	}
	return s.cleanSequences(line)
}

func isPlain(line []byte) bool {
	for _, c := range line {
		if c < ' ' && c != '\t' || c == 0x7f {
			return false
		}
	}
	return utf8.Valid(line)
}

func (s *Scanner) cleanSequences(line []byte) string {
	var b strings.Builder
	b.WriteString(s.pen)
	var state byte
	for len(line) > 0 {
		seq, width, n, next := ansi.DecodeSequence(line, state, nil)
		if n == 0 {
			break
		}
		state, line = next, line[n:]
		switch {
		case width > 0 || len(seq) > 0 && seq[0] == '\t':
			b.WriteString(strings.ToValidUTF8(string(seq), "\uFFFD"))
		case isColour(seq):
			b.Write(seq)
			s.draw(string(seq))
		case isLink(seq):
			b.Write(seq)
		case seq[0] >= 0x80:
			b.WriteString("\uFFFD")
		}
	}
	return b.String()
}

// isColour reports whether a sequence selects colours or weight (SGR, ECMA-48).
func isColour(seq []byte) bool {
	if len(seq) < 3 || !bytes.HasPrefix(seq, []byte("\x1b[")) || seq[len(seq)-1] != 'm' {
		return false
	}
	for _, c := range seq[2 : len(seq)-1] {
		if (c < '0' || c > '9') && c != ';' && c != ':' {
			return false
		}
	}
	return true
}

// isLink reports whether a sequence is a whole hyperlink, as terminals have agreed
// on it (OSC 8), with nothing in it but text.
func isLink(seq []byte) bool {
	body, ok := bytes.CutPrefix(seq, []byte("\x1b]8;"))
	if !ok {
		return false
	}
	body, short := bytes.CutSuffix(body, []byte("\x07"))
	if !short {
		body, ok = bytes.CutSuffix(body, []byte("\x1b\\"))
	}
	return ok && isPlain(body)
}

// draw remembers which colours are in force.
func (s *Scanner) draw(seq string) {
	const longestPen = 200
	if seq == "\x1b[m" || seq == "\x1b[0m" || len(s.pen)+len(seq) > longestPen {
		s.pen = ""
		return
	}
	s.pen += seq
}
