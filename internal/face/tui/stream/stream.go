// Package stream shows output: a page of the log, with its search, its filter and its selection. It has no keys; views
// that show a stream give it theirs. Start reading at Stream.
package stream

import (
	"context"
	"fmt"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
)

// Stream is output: all lines, or those that match a filter. It holds the page of the log that is shown, and fetches
// another one when the position, the filter or the log has changed.
type Stream struct {
	Filter  query.Filter
	Fixed   bool   // the user cannot change the filter
	Session string // whose output it is; empty: of the running one
	Position
	wrap    bool
	raw     bool // lines as they were written
	similar bool // lines of one kind are folded
	times   times
	Height  int    // as last drawn
	tied    bool   // the time cursor is to follow the stream when the page is here
	problem string // why the log could not be read

	beyond    Beyond // what to do when scrolling goes beyond the log
	search    search
	selection *selection // nil: none
	shown     []api.Line // as last drawn, from the top
	rows      []int      // the index of the line in each row

	asking bool     // a page is being fetched
	asked  askedFor // the last request
	page   api.Page
	of     askedFor // the request that page answers
}

// Position is where a stream ends: before the line of a number, moved by so many lines; -1 follows the newest. Until
// the line is known, it is a time.
type Position struct {
	bottom int64
	move   int
	until  time.Time
	stay   bool // also at the newest line, where it would follow otherwise
}

// following is the position that follows the newest line.
var following = Position{bottom: -1}

// askedFor is a request for a page.
type askedFor struct {
	session string
	filter  string
	Position
	count   int
	raw     bool
	similar bool
	values  bool
	lines   int64 // the number of lines in the log
}

// Beyond is what to do when scrolling goes beyond the log of the session. It may be nil.
type Beyond struct {
	First func(*view.Model) // before its first line
	Last  func(*view.Model) // to its last line or after it
}

// New returns a stream that follows all output.
func New(beyond Beyond) *Stream {
	return &Stream{beyond: beyond, Position: following, search: search{hit: -1}}
}

func (s *Stream) Following() bool { return s.Position == following }

// Title describes what is shown.
func (s *Stream) Title() string {
	if len(s.Filter) == 0 {
		return "all output"
	}
	return s.Filter.Words()
}

// Status describes the position, for the bottom line.
func (s *Stream) Status(m *view.Model) string {
	found := s.search.status(m)
	switch {
	case s.Following():
		return found + m.Palette.Dim.Render("following")
	case len(s.Filter) > 0 && !m.At.IsZero():
		return found + m.Palette.Stale.Render("at "+m.Cursor())
	}
	return found + m.Palette.Stale.Render(fmt.Sprintf("%d lines since", max(s.page.Total-s.page.End, 0)))
}

// Ask implements view.Asker.
func (s *Stream) Ask(m *view.Model) {
	want := askedFor{
		session: s.Session, filter: s.Filter.String(), Position: s.Position, count: max(m.Height, 20), raw: s.raw,
		similar: s.similar,
		values:  s.selection != nil,
	}
	if s.Session == "" {
		want.lines = m.Live.Lines
	}
	if s.asking || want == s.asked {
		return
	}
	s.asking, s.asked = true, want
	q := api.LineQuery{
		Filter: want.filter, Count: want.count, Fold: true, Similar: s.similar, Raw: s.raw, Until: want.until,
		New: true, Values: want.values,
	}
	if want.until.IsZero() {
		q.Last, q.End, q.Move = want.bottom < 0, max(want.bottom, 0), want.move
	}
	m.Later(func(ctx context.Context) view.Then {
		page, err := lines(ctx, m, want.session, q)
		return func() {
			if s.asking = false; err != nil {
				s.problem = err.Error()
				if s.Session != "" { // its log is gone
					s.of, s.page, s.shown = want, api.Page{}, nil
				}
				return
			}
			s.take(m, want, page)
			if s.selection != nil {
				s.selection.settle(s)
			}
		}
	})
}

// lines reads a page of the log of a session.
func lines(ctx context.Context, m *view.Model, session string, q api.LineQuery) (api.Page, error) {
	from, err := m.Record(ctx, session)
	if err != nil {
		return api.Page{}, err
	}
	return from.Lines(ctx, q)
}

// take shows a page. If the user has scrolled to it, the time cursor follows.
func (s *Stream) take(m *view.Model, asked askedFor, page api.Page) {
	s.problem, s.page, s.of = "", page, asked
	n := len(page.Lines)
	switch {
	case s.Session != asked.session, s.Filter.String() != asked.filter || s.Position != asked.Position,
		s.raw != asked.raw, s.similar != asked.similar:
	case !s.until.IsZero():
		s.stand(page.End)
	case s.tied && n == 0 && s.move < 0: // this is the first line
		s.First()
	case s.tied && s.move > 0 && !s.stay && page.End >= page.Total && s.beyond.Last != nil:
		s.beyond.Last(m)
	case s.tied:
		s.stand(page.End)
		if s.tied = false; n > 0 {
			m.At = page.Lines[n-1].At
		}
	}
}

// stand keeps the stream where it is shown.
func (s *Stream) stand(bottom int64) {
	s.Position = Position{bottom: bottom, stay: s.stay}
	s.of.Position, s.asked.Position = s.Position, s.Position
}

// Draw draws the last lines that fit into height rows.
func (s *Stream) Draw(m *view.Model, width, height int) []string {
	s.Height = height
	if s.of.filter != s.Filter.String() || s.of.session != s.Session {
		return view.Pad(nil, height, width)
	}
	if s.problem != "" && s.Session != "" { // of the running session it is told above
		return view.Pad([]string{cells.Fit(m.Palette.Dim.Render("  "+s.problem), width)}, height, width)
	}
	rows := s.drawLines(m, width, height)
	if len(rows) == 0 && len(s.Filter) > 0 {
		text := "  there is no such output; backspace shows all again"
		if s.Fixed {
			text = "  no output"
		}
		rows = []string{cells.Fit(m.Palette.Dim.Render(text), width)}
	}
	return view.Pad(rows, height, width)
}

// Problem is why the log of the running session could not be read; empty: it could, or another one is shown.
func (s *Stream) Problem() string {
	if s.Session != "" {
		return ""
	}
	return s.problem
}

// LineAt returns the line in a row of the stream, as last drawn.
func (s *Stream) LineAt(row int) (api.Line, bool) {
	if row < 0 || row >= len(s.rows) || s.rows[row] >= len(s.shown) {
		return api.Line{}, false
	}
	return s.shown[s.rows[row]], true
}

// ToNow follows the newest line.
func (s *Stream) ToNow() { s.Position, s.tied, s.search.hit = following, false, -1 }

// NextTimes shows the next kind of times. ToggleRaw and ToggleWrap toggle how lines are drawn.
func (s *Stream) NextTimes()  { s.times = (s.times + 1) % howManyTimes }
func (s *Stream) ToggleRaw()  { s.raw = !s.raw }
func (s *Stream) ToggleWrap() { s.wrap = !s.wrap }

// ToggleSimilar folds lines that differ only in numbers, identifiers and times, or unfolds them.
func (s *Stream) ToggleSimilar(m *view.Model) {
	if s.similar = !s.similar; s.similar {
		m.Said = "lines that differ only in numbers, identifiers and times count as one"
	} else {
		m.Said = "only equal lines count as one"
	}
}

// IsRaw reports whether lines are shown as they were written.
func (s *Stream) IsRaw() bool { return s.raw }

// Awaits reports whether the newest lines are being fetched.
func (s *Stream) Awaits() bool { return s.asking && s.Following() }

// PreviousMark goes to the last marked line before those shown, or else to the last one of all. It returns false if no
// line is marked.
func (s *Stream) PreviousMark(marks map[view.LineID]bool) bool {
	var all []int64
	for line := range marks {
		if line.Session == s.Session {
			all = append(all, line.Number)
		}
	}
	slices.Sort(all)
	if len(all) == 0 {
		return false
	}
	here := s.top()
	if slices.Contains(all, s.search.hit) {
		here = s.search.hit
	}
	to := all[len(all)-1]
	for _, n := range all {
		if n < here {
			to = n
		}
	}
	s.search.hit = to
	s.showLine(to)
	return true
}

// Use shows the lines that match a filter, at the time that is shown.
func (s *Stream) Use(m *view.Model, f query.Filter) {
	at := m.ShownTime()
	if s.Filter = f; !s.Following() {
		s.GoTo(at)
	}
}

// Only shows only the lines of the selected unit, even if it is muted, or those of all units again.
func (s *Stream) Only(m *view.Model) {
	only, muted := s.Filter.Units()
	if selected := []string{m.Selected}; slices.Equal(only, selected) {
		only = nil
	} else {
		only, muted = selected, without(muted, m.Selected)
	}
	s.Use(m, s.Filter.WithUnits(only, muted))
}

// Mute leaves out the lines of the selected unit, or shows them again.
func (s *Stream) Mute(m *view.Model) {
	only, muted := s.Filter.Units()
	if slices.Contains(muted, m.Selected) {
		muted = without(muted, m.Selected)
	} else {
		muted = append(slices.Clone(muted), m.Selected)
	}
	s.Use(m, s.Filter.WithUnits(only, muted))
}

// without are the units except one.
func without(units []string, unit string) []string {
	return slices.DeleteFunc(slices.Clone(units), func(name string) bool { return name == unit })
}

// LastSave shows only the output that the newest save has caused, or all output again.
func (s *Stream) LastSave(m *view.Model) {
	if s.Filter.Has(query.Ripple) {
		s.Use(m, s.Filter.Without(query.Ripple))
		return
	}
	s.Use(m, append(s.Filter.Without(query.Ripple), query.Term{Field: query.Ripple, Number: query.Last}))
}

// Level shows only warnings and errors, then only errors, then all lines again.
func (s *Stream) Level(m *view.Model) {
	next := map[query.Level]query.Level{query.NoLevel: query.Warning, query.Warning: query.Error}
	now := query.NoLevel
	for _, t := range s.Filter {
		if t.Field == query.AtLeast {
			now = t.Level
		}
	}
	f := s.Filter.Without(query.AtLeast)
	if l := next[now]; l != query.NoLevel {
		f = append(f, query.Term{Field: query.AtLeast, Level: l})
	}
	s.Use(m, f)
}

// GoTo shows what was written up to a time.
func (s *Stream) GoTo(at time.Time) {
	s.Position, s.tied = Position{bottom: -1, until: at}, false
}

// Pages scrolls by most of a screen. The time cursor follows.
func (s *Stream) Pages(m *view.Model, by int) { s.Scroll(m, by*max(s.Height-2, 1)) }

// Scroll moves by so many lines. Below the newest line the stream follows again.
func (s *Stream) Scroll(m *view.Model, by int) {
	if by < 0 && s.beyond.First != nil && s.isAtFirst() {
		s.beyond.First(m)
		return
	}
	s.scroll(by)
}

// scroll is Scroll within the log.
func (s *Stream) scroll(by int) {
	bottom := s.bottom
	switch {
	case !s.until.IsZero(): // the line is being fetched
		return
	case s.Following() && by > 0:
		return
	case bottom < 0:
		bottom = s.page.End
	}
	s.moveTo(bottom, s.move+by)
}

// isAtFirst reports whether the first line of the log is shown, or the first one that matches the filter.
func (s *Stream) isAtFirst() bool {
	if !s.until.IsZero() || len(s.shown) == 0 || len(s.page.Lines) == 0 {
		return false
	}
	first := s.shown[0].Number
	return first == s.page.Lines[0].Number &&
		(first <= s.page.First || len(s.page.Lines) < s.of.count && s.of == s.asked)
}

// moveTo moves to so many lines after a line.
func (s *Stream) moveTo(bottom int64, by int) {
	s.Position, s.tied = Position{bottom: bottom, move: by}, true
}

// First moves to the first line of the log.
func (s *Stream) First() { s.moveTo(s.page.First+1, max(s.Height-1, 0)) } // there is no position before line 0

// ShowLine marks a line and shows it, with lines around it. The time cursor stays where it is.
func (s *Stream) ShowLine(number int64) {
	s.search.hit = number
	s.showLine(number)
	s.tied = false
}

// showLine moves so that a line is visible, with some of those after it.
func (s *Stream) showLine(number int64) {
	s.Position, s.tied = Position{bottom: number + 1, move: max(s.Height/3, 1), stay: true}, true
}

// Jump goes to the next start of a run or failure after the lines shown, or by -1 to the last one before them.
func (s *Stream) Jump(m *view.Model, e query.Event, by int) {
	f := append(
		query.Filter{{Field: query.Events, Event: e}},
		s.Filter.Without(query.Events).Without(query.Text).Without(query.AtLeast)...)
	q := api.LineQuery{Filter: f.String(), Count: 1, End: s.here(), From: -1}
	what := map[int]string{-1: "before", 1: "after"}[by] + " these lines there is no " +
		map[query.Event]string{query.Start: "start of a run", query.Failure: "failure"}[e]
	if by > 0 {
		q.End, q.From = 0, s.here()+1
	}
	session := s.Session
	m.Later(func(ctx context.Context) view.Then {
		page, err := lines(ctx, m, session, q)
		return func() {
			switch {
			case err != nil:
				m.Notice = err.Error()
			case len(page.Lines) == 0:
				m.Said = what
			default:
				s.search.hit = page.Lines[0].Number
				s.showLine(s.search.hit)
			}
		}
	})
}

// here is the current line: that of a jump or match if it is shown, or else the first line.
func (s *Stream) here() int64 {
	if s.shows(s.search.hit) {
		return s.search.hit
	}
	return s.top()
}

// shows reports whether a line is on the screen.
func (s *Stream) shows(number int64) bool {
	return slices.ContainsFunc(s.shown, func(l api.Line) bool { return l.Number == number })
}

// top is the number of the first line that is shown.
func (s *Stream) top() int64 {
	if len(s.shown) == 0 {
		return s.page.End
	}
	return s.shown[0].Number
}
