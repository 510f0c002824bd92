package tui

// selection is the line that the user points at in a stream, and those up to which all are selected.
type selection struct {
	at   int64
	from int64 // -1: only the line itself
	edge int   // where to point when the stream has scrolled: -1 at its top, 1 at its end, 0 nowhere else
}

// selectFrom begins a selection at a line. The stream stays where it is shown, however much comes.
func (s *stream) selectFrom(number int64) *selection {
	s.hold()
	s.selection = &selection{at: number, from: -1}
	return s.selection
}

// hold has the stream stay where it is shown.
func (s *stream) hold() {
	if s.until.IsZero() && s.move == 0 {
		s.position = position{bottom: s.page.End, stay: true}
		s.of.position, s.asked.position = s.position, s.position
	}
}

// has reports whether a line is among those chosen.
func (p *selection) has(number int64) bool {
	return p.from >= 0 && number >= min(p.at, p.from) && number <= max(p.at, p.from)
}

// settle points at the edge of the lines that a scrolled stream shows.
func (p *selection) settle(s *stream) {
	n := len(s.page.Lines)
	if p.edge == 0 || n == 0 {
		return
	}
	if p.edge < 0 {
		p.at = s.page.Lines[max(0, n-s.height)].Number
	} else {
		p.at = s.page.Lines[n-1].Number
	}
	p.edge = 0
}
