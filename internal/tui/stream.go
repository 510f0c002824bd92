package tui

import (
	"context"
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/phrase"
)

// stream is the lower part of the main view: the output. It holds the page of the log that
// is shown, and asks for another when that is not the one any more.
type stream struct {
	unit string // whose lines; empty for everybody's
	position
	wrap    bool
	height  int    // as last drawn
	tied    bool   // the time cursor is to go where the stream was scrolled to
	problem string // why the log could not be read

	asking bool     // a page is on its way
	asked  askedFor // the newest that was
	page   api.Page
	of     askedFor // what page is of
}

// position is where the stream stands: before the line of a number, or so many lines farther;
// -1 follows the newest. Until the line is known, it is a moment.
type position struct {
	bottom int64
	move   int
	until  time.Time
}

// askedFor is what the stream has asked for.
type askedFor struct {
	unit string
	position
	count int
	lines int64 // that the log had
}

// pageMsg is an answer to what the stream has asked for.
type pageMsg struct {
	to   askedFor
	page api.Page
	err  error
}

func (s *stream) following() bool { return s.bottom < 0 && s.move == 0 && s.until.IsZero() }

func (s *stream) title() string {
	if s.unit == "" {
		return "all output"
	}
	return "only " + s.unit
}

// status says where the stream stands, for the bottom line.
func (s *stream) status(m *model) string {
	if s.following() {
		return m.palette.dim.Render("following")
	}
	return m.palette.stale.Render(fmt.Sprintf("%d lines since", max(s.page.Total-s.bottom, 0)))
}

// ask asks for the page that is to be shown, if that is not the one that is there.
func (s *stream) ask(m *model) {
	want := askedFor{s.unit, s.position, max(m.height, 20), m.snap.Lines}
	if s.asking || want == s.asked {
		return
	}
	s.asking, s.asked = true, want
	q := api.LineQuery{Unit: want.unit, Count: want.count, Fold: true, Until: want.until}
	if want.until.IsZero() {
		q.Last, q.End, q.Move = want.bottom < 0, max(want.bottom, 0), want.move
	}
	m.later(func(ctx context.Context) tea.Msg {
		page, err := m.project.Lines(ctx, q)
		return pageMsg{want, page, err}
	})
}

// take shows a page that has come. The time cursor goes along with a stream that is
// scrolled.
func (s *stream) take(m *model, msg pageMsg) {
	s.asking = false
	if msg.err != nil {
		s.problem = msg.err.Error()
		return
	}
	s.problem, s.page, s.of = "", msg.page, msg.to
	n := len(msg.page.Lines)
	switch {
	case s.unit != msg.to.unit || s.position != msg.to.position:
	case !s.until.IsZero():
		s.stand(msg.page.End)
	case s.tied && n == 0: // there is nothing before
		s.scrollTo(m, msg.page.First, s.height)
	case s.tied && s.move > 0 && msg.page.End >= msg.page.Total:
		m.backToNow()
	case s.tied:
		s.stand(msg.page.End)
		s.tied, m.at = false, msg.page.Lines[n-1].At
	}
}

// stand has the stream stay where it is shown.
func (s *stream) stand(bottom int64) {
	s.position = position{bottom: bottom}
	s.of.position, s.asked.position = s.position, s.position
}

// draw draws the last lines that fit into height rows.
func (s *stream) draw(m *model, height int) []string {
	s.height = height
	if s.of.unit != s.unit {
		return pad(nil, height, m.width)
	}
	return pad(s.rows(m, s.page.Lines, height), height, m.width)
}

// gutter is the width of the time and the unit's name before a line's text.
func (s *stream) gutter(m *model) (clockWidth, nameWidth int) {
	clockWidth, nameWidth = 9, m.columns().name
	if m.width < 70 {
		clockWidth = 0
	}
	return
}

// rows draws entries from the last one up until the height is filled, then gives
// each its time and name, said once for lines that share them.
func (s *stream) rows(m *model, entries []api.Line, height int) []string {
	clockWidth, nameWidth := s.gutter(m)
	width := m.width - clockWidth - nameWidth - 3
	used, first := 0, len(entries)
	var texts [][]string
	for first > 0 && used < height {
		first--
		e := entries[first]
		t := []string{s.ownWords(m, e)}
		if e.Stream == api.Output {
			t = s.text(m, e, width)
		}
		used += len(t)
		texts = append([][]string{t}, texts...)
	}
	var rows []string
	var before api.Line
	for i, e := range entries[first:] {
		when, who := "", ""
		if phrase.Clock(e.At) != phrase.Clock(before.At) {
			when = phrase.Clock(e.At)
		}
		if e.Unit != before.Unit || before.Unit == "" {
			who = e.Unit
		}
		before = e
		for k, t := range texts[i] {
			if k > 0 {
				when, who = "", ""
			}
			row := " " + m.palette.faint.Render(fit(when, clockWidth))
			if e.Unit != "" {
				row += s.nameStyle(m, e).Render(fit(who, nameWidth)) + "  "
			}
			rows = append(rows, s.finish(m, e, row+t))
		}
	}
	if over := len(rows) - height; over > 0 {
		rows = rows[over:]
	}
	return rows
}

// old reports whether a line was written before the last save of the shown
// moment, so that it steps back without the screen being cleared.
func (s *stream) old(m *model, at time.Time) bool { return at.Before(m.snap.LastSave(m.shownTime())) }

func (s *stream) nameStyle(m *model, e api.Line) lipgloss.Style {
	if s.old(m, e.At) {
		return m.palette.faint
	}
	return m.unitStyle(e.Unit)
}

// text is an entry's text in rows of at most width cells.
func (s *stream) text(m *model, e api.Line, width int) []string {
	text := strings.ReplaceAll(e.Text, "\t", "    ")
	if e.Times > 1 {
		text = fmt.Sprintf("%s  (%d times)", text, e.Times)
	}
	style := m.palette.text
	switch {
	case s.old(m, e.At):
		text, style = ansi.Strip(text), m.palette.dim
	}
	if !s.wrap {
		return []string{style.Render(ansi.Truncate(text, width, "…")) + "\x1b[0m"}
	}
	rows := strings.Split(ansi.Hardwrap(text, max(width, 1), true), "\n")
	for i := range rows {
		rows[i] = style.Render(rows[i]) + "\x1b[0m"
	}
	return rows
}

// ownWords is what Omnivigil says itself, in the colour of its meaning.
func (s *stream) ownWords(m *model, e api.Line) string {
	words := m.palette.toneStyle(e.Tone)
	if s.old(m, e.At) && e.Tone != api.ToneBroken {
		words = m.palette.dim
	}
	if e.Unit == "" {
		return words.Bold(true).Render(e.Text)
	}
	return m.palette.faint.Render("╶ ") + words.Render(fmt.Sprintf("run %d %s", e.Run, e.Text))
}

// finish brings a row to the screen's width. What opens a run or concerns the
// whole project goes on as a thin line and so divides the output.
func (s *stream) finish(m *model, e api.Line, row string) string {
	if e.Stream != api.Opens && (e.Unit != "" || e.Stream == api.Output) || strings.HasPrefix(e.Text, " ") {
		return fit(row, m.width)
	}
	row = ansi.Truncate(row, m.width-2, "…")
	return row + m.palette.faint.Render(" "+strings.Repeat("╌", max(m.width-ansi.StringWidth(row)-2, 0))) + " "
}

// only shows the chosen unit's lines alone, or everybody's again.
func (s *stream) only(m *model) {
	at := m.shownTime()
	if s.unit == m.overview.lanes.unit {
		s.unit = ""
	} else {
		s.unit = m.overview.lanes.unit
	}
	if !s.following() {
		s.goTo(at)
	}
}

// goTo shows what had been written up to that moment.
func (s *stream) goTo(at time.Time) { s.position, s.tied = position{bottom: -1, until: at}, false }

// pages scrolls by most of a screen and takes the time cursor along.
func (s *stream) pages(m *model, by int) { s.scroll(m, by*max(s.height-2, 1)) }

// scroll moves by that many lines; past the newest it follows again.
func (s *stream) scroll(m *model, by int) {
	bottom := s.bottom
	switch {
	case !s.until.IsZero(): // it will be known in a moment
		return
	case s.following() && by > 0:
		return
	case bottom < 0:
		bottom = s.page.End
	}
	s.scrollTo(m, bottom, s.move+by)
}

// scrollTo moves to so many lines after the one of a number.
func (s *stream) scrollTo(m *model, bottom int64, by int) {
	s.position, s.tied = position{bottom: bottom, move: by}, true
}

func (s *stream) first(m *model) { s.scrollTo(m, s.page.First, s.height) }
