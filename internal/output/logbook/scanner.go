package logbook

import (
	"bytes"
	"slices"
	"strings"
	"unicode/utf8"

	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/pen"
)

// longest is how many bytes of a line without an end are kept together.
const longest = 1 << 20

// Scanner turns the bytes that a process writes to its terminal into lines for a stream. It applies what changes the
// line itself: carriage returns, backspaces, erasing, movement within the line; so a line that was rewritten counts
// once, in its last form. Colors and links are kept and end with their line; everything else that acts on a terminal
// is removed. The zero value is ready for use.
type Scanner struct {
	// Hide, if set, masks every line before it leaves the scanner, and the pieces of one that is too long. No piece
	// ends within Hold bytes of what follows, so that nothing of that length is cut in two unnoticed.
	Hide func(string) string
	Hold int
	// MayHide is set with Hide, and reports quickly whether Hide may change a text.
	MayHide func([]byte) bool
	// Leads, if set, reports whether a link may lead to an address; otherwise only its text is kept.
	Leads func(address string) bool

	lines   []string
	bare    []byte // see ScanBlock
	partial []byte
	pen     pen.Pen // at the end of the last line
	shown   shown
	goesOn  bool // see Continues
}

// Continues reports whether the first of the lines that the last Scan, ScanBlock, Pause or Rest returned continues
// what Pause returned before.
func (s *Scanner) Continues() bool { return s.goesOn }

// shown is what Pause has returned of a line without an end.
type shown struct {
	text string
	pen  pen.Pen // at its end
}

// ScanBlock is Scan for most of what processes write: of the lines that p completes, the last ones that need no
// change are returned as they were written, each with its end, as for Book.AppendBlock. The block is a part of p. Bare
// is the block without colors, and valid until the next call.
func (s *Scanner) ScanBlock(p []byte) (lines []string, block, bare []byte) {
	s.goesOn = false
	first := 0
	if len(s.partial) > 0 || s.pen != (pen.Pen{}) || s.shown != (shown{}) {
		first = bytes.IndexByte(p, '\n') + 1
		if lines = s.Scan(p[:first]); first == 0 {
			return s.Scan(p), nil, nil
		}
	}
	end := bytes.LastIndexByte(p, '\n') + 1
	block = p[first:end]
	if bare, ok := s.bareOf(block); ok && s.pen == (pen.Pen{}) {
		s.partial = append(s.partial, p[end:]...)
		return lines, block, bare
	}
	goesOn := s.goesOn
	lines = append(slices.Clone(lines), s.Scan(p[first:])...)
	s.goesOn = goesOn // of the first line
	return lines, nil, nil
}

// bareOf returns complete lines without colors, if they need no change: they have only colors in addition to text, and
// none at the end of a line.
func (s *Scanner) bareOf(block []byte) (bare []byte, ok bool) {
	colors := bytes.IndexByte(block, 0x1b) >= 0
	bare = s.bare[:0]
	for rest := block; len(rest) > 0; {
		end := bytes.IndexByte(rest, '\n')
		line := rest[:end]
		for n := len(line); n > 0 && line[n-1] == '\r'; n-- {
			line = line[:n-1]
		}
		switch {
		case !colors && escape.Harmless(line):
		case !colors:
			return nil, false
		default:
			if bare, ok = appendBare(bare, line); !ok {
				return nil, false
			}
			bare = append(bare, '\n')
		}
		rest = rest[end+1:]
	}
	if s.bare = bare; !colors {
		bare = block
	}
	return bare, s.MayHide == nil || !s.MayHide(block)
}

// appendBare appends a line without colors. It returns false if the line has more than colors and text, or does not
// end its colors.
func appendBare(bare, line []byte) ([]byte, bool) {
	now := pen.Pen{}
	for len(line) > 0 {
		end := escape.PlainLength(line)
		if end == 0 && line[0] == 0x1b {
			n := escape.ColorLength(line)
			switch {
			case n == 0:
				return bare, false
			case escape.IsReset(line[:n]):
				now = pen.Pen{}
			case !now.Selects(line[:n]):
				return bare, false
			}
			line = line[n:]
			continue
		}
		if end < len(line) && line[end] != 0x1b {
			if end = bytes.IndexByte(line, 0x1b); end < 0 {
				end = len(line)
			}
			if !escape.Harmless(line[:end]) {
				return bare, false
			}
		}
		bare = append(bare, line[:end]...)
		line = line[end:]
	}
	return bare, now == pen.Pen{}
}

// Scan returns the lines that p completes. They are valid until the next call.
func (s *Scanner) Scan(p []byte) []string {
	s.goesOn = false
	lines := s.lines[:0]
	if len(s.partial) > 0 {
		end := bytes.IndexByte(p, '\n') + 1
		s.partial = append(s.partial, p[:end]...)
		if p = p[end:]; end > 0 {
			lines = s.whole(lines, s.partial)
			s.partial = s.partial[:0]
		}
	}
	if end := bytes.LastIndexByte(p, '\n') + 1; end > 0 {
		lines = s.whole(lines, p[:end])
		p = p[end:]
	}
	s.partial = append(s.partial, p...)
	for len(s.partial) > longest+s.Hold {
		if s.Hide != nil {
			s.partial = []byte(s.Hide(string(s.partial)))
		}
		cut := min(longest, len(s.partial))
		if cut == len(s.partial) {
			break // it is short enough now
		}
		for cut > longest-utf8.UTFMax && !utf8.RuneStart(s.partial[cut]) {
			cut--
		}
		lines = s.add(lines, s.partial[:cut])
		s.partial = append(s.partial[:0], s.partial[cut:]...)
	}
	s.lines = lines
	return lines
}

// nextLine moves to the beginning of the next line (CNL, ECMA-48). Tools that redraw a line go on with it.
var nextLine = []byte("\x1b[1E")

// whole appends the texts of complete lines.
func (s *Scanner) whole(lines []string, p []byte) []string {
	all := string(p) // once, because all lines share it
	hide := s.MayHide != nil && s.MayHide(p)
	for len(p) > 0 {
		end := bytes.IndexByte(p, '\n')
		line, text := p[:end], all[:end]
		p, all = p[end+1:], all[end+1:]
		if bytes.IndexByte(line, 0x1b) >= 0 && bytes.Contains(line, nextLine) {
			for part := range bytes.SplitSeq(line, nextLine) {
				lines = s.add(lines, part)
			}
			continue
		}
		if s.pen != (pen.Pen{}) || s.shown != (shown{}) || hide {
			lines = s.add(lines, line)
			continue
		}
		for n := len(line); n > 0 && line[n-1] == '\r'; n-- {
			line, text = line[:n-1], text[:n-1]
		}
		if !escape.Harmless(line) {
			text, s.pen = s.said(line)
		}
		lines = append(lines, text)
	}
	return lines
}

// add appends the rest of a complete line after what Pause has returned of it.
func (s *Scanner) add(lines []string, raw []byte) []string {
	text, after := s.said(raw)
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
	case escape.Strip(rest) == "":
		return lines
	}
	s.goesOn = len(lines) == 0
	return append(lines, before.pen.String()+rest)
}

// Pause returns what has been written after the last line end, when a stream has been quiet for a moment: a prompt,
// for example. It returns nothing twice; the rest of the line comes with its end. Unsure, if set, reports whether a
// text may end within something to mask; such a text is not returned.
func (s *Scanner) Pause(unsure func(string) bool) []string {
	s.goesOn = false
	if len(s.partial) == 0 {
		return nil
	}
	text, after := s.said(s.partial)
	rest, more := strings.CutPrefix(text, s.shown.text)
	if strings.TrimSpace(escape.Strip(rest)) == "" || s.shown.text != "" && !more ||
		unsure != nil && unsure(string(s.partial)) {
		return nil
	}
	if s.goesOn = s.shown.text != ""; s.goesOn {
		rest = s.shown.pen.String() + rest
	}
	s.shown = shown{strings.TrimSuffix(strings.TrimSuffix(text, pen.NoLink), pen.PlainColors), after}
	return []string{rest}
}

// Rest returns what was written after the last line end and not returned by Pause.
func (s *Scanner) Rest() []string {
	s.goesOn = false
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

// Unended reports whether something has been written after the last line end.
func (s *Scanner) Unended() bool { return len(s.partial) > 0 }

// Said is what has been written after the last line end, as far as Pause has returned it.
func (s *Scanner) Said() string { return s.shown.text }

// said is clean, with secrets masked.
func (s *Scanner) said(line []byte) (string, pen.Pen) {
	text, after := s.clean(line)
	if s.Hide != nil {
		text = s.Hide(text)
	}
	return text, after
}

// clean returns a line as a terminal would show it, and the pen at its end.
func (s *Scanner) clean(line []byte) (string, pen.Pen) {
	line = bytes.TrimRight(line, "\r")
	if text, after, ok := colored(line, s.pen); ok {
		return text, after
	}
	e := editor{pen: s.pen, leads: s.Leads}
	e.write(line)
	return e.String(), e.pen
}

// colored is clean for a line with only colors in addition to text, as most lines are. It returns false if there is
// more.
func colored(line []byte, now pen.Pen) (text string, after pen.Pen, ok bool) {
	var b strings.Builder
	written := pen.Pen{} // of the text so far
	for len(line) > 0 {
		end := bytes.IndexByte(line, 0x1b)
		if end < 0 {
			end = len(line)
		}
		if run := line[:end]; end > 0 {
			if !escape.Harmless(run) {
				return "", now, false
			}
			b.WriteString(now.From(written))
			b.Write(run)
			written = now
		}
		if line = line[end:]; len(line) == 0 {
			break
		}
		if end = escape.ColorLength(line); end == 0 {
			return "", now, false
		}
		now.Selects(line[:end])
		line = line[end:]
	}
	b.WriteString(pen.Pen{}.From(written))
	return b.String(), now, true
}
