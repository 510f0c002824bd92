package stream

import (
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/text/escape"
)

// selection is the line that the user points at in a stream, and the lines up to another that are selected with it.
type selection struct {
	at   int64
	from int64 // the other end; -1: only the line itself is selected
	edge int   // where to point when the stream has scrolled: -1 at its top, 1 at its end, 0 nowhere else
	// value is the index of the value of the line that is chosen; below 0: the one that probably identifies something.
	value int
}

// BeginSelection begins a selection at the last match that is shown, or else at the last line. The stream stays where
// it is, however much is written. It returns false where no line is shown.
func (s *Stream) BeginSelection() bool {
	if len(s.shown) == 0 {
		return false
	}
	at := s.shown[len(s.shown)-1].Number
	if s.shows(s.search.hit) {
		at = s.search.hit
	}
	s.hold()
	s.selection = &selection{at: at, from: -1, value: -1}
	return true
}

func (s *Stream) EndSelection() { s.selection = nil }

// hold has the stream stay where it is shown.
func (s *Stream) hold() {
	if s.until.IsZero() && s.move == 0 {
		s.Position = Position{bottom: s.page.End, stay: true}
		s.of.Position, s.asked.Position = s.Position, s.Position
	}
}

// Point moves by so many lines. At the first and the last line of the screen the stream scrolls.
func (s *Stream) Point(by int) {
	p, n := s.selection, len(s.shown)
	if n == 0 {
		return
	}
	i := slices.IndexFunc(s.shown, func(l api.Line) bool { return l.Number >= p.at })
	if i < 0 {
		i = n - 1
	}
	if i += by; i < 0 || i >= n {
		p.edge = max(-1, min(by, 1))
		if s.scroll(by); s.Following() { // this was the end
			s.hold()
		}
	}
	p.at, p.value = s.shown[max(0, min(i, n-1))].Number, -1
}

// PointAt points at a line, and selects only that.
func (s *Stream) PointAt(number int64) {
	s.selection.at, s.selection.from, s.selection.value = number, -1, -1
}

// PointValue points at another value of the line: by 1 the next, by -1 the previous one.
func (s *Stream) PointValue(by int) {
	if l, ok := s.Pointed(); ok && len(l.Values) > 0 {
		s.selection.value = max(0, min(s.valueOf(l)+by, len(l.Values)-1))
	}
}

// valueOf is the index of the value of a line that is pointed at.
func (s *Stream) valueOf(l api.Line) int {
	if s.selection.value >= 0 {
		return min(s.selection.value, len(l.Values)-1)
	}
	return max(slices.IndexFunc(l.Values, func(v api.Value) bool { return v.Likely }), 0)
}

// Value returns the value that is pointed at; empty: the line has none.
func (s *Stream) Value() string {
	l, ok := s.Pointed()
	if !ok || len(l.Values) == 0 {
		return ""
	}
	text, v := escape.Strip(l.Text), l.Values[s.valueOf(l)]
	if v.To > len(text) { // a line that another one continues
		return ""
	}
	return text[v.From:v.To]
}

// SelectTo selects all lines from the one pointed at to another.
func (s *Stream) SelectTo(number int64) {
	if p := s.selection; p.from < 0 {
		p.from = p.at
	}
	s.selection.at = number
}

// ToggleSelecting begins to select lines from the one pointed at, or selects only that again.
func (s *Stream) ToggleSelecting() {
	if p := s.selection; p.from >= 0 {
		p.from = -1
	} else {
		p.from = p.at
	}
}

// Pointed returns the line pointed at, if it is shown.
func (s *Stream) Pointed() (api.Line, bool) {
	for _, l := range s.shown {
		if l.Number == s.selection.at {
			return l, true
		}
	}
	return api.Line{}, false
}

// Selected returns the numbers of the first and the last line selected, and whether more than one can be.
func (s *Stream) Selected() (from, to int64, several bool) {
	p := s.selection
	if p.from < 0 {
		return p.at, p.at, false
	}
	return min(p.at, p.from), max(p.at, p.from), true
}

// has reports whether a line is among several that are selected.
func (p *selection) has(number int64) bool {
	return p.from >= 0 && number >= min(p.at, p.from) && number <= max(p.at, p.from)
}

// settle points at the edge of the lines that a scrolled stream shows.
func (p *selection) settle(s *Stream) {
	n := len(s.page.Lines)
	if p.edge == 0 || n == 0 {
		return
	}
	if p.edge < 0 {
		p.at = s.page.Lines[max(0, n-s.Height)].Number
	} else {
		p.at = s.page.Lines[n-1].Number
	}
	p.edge = 0
}
