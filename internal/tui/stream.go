package tui

import (
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/logbook"
)

// stream is the lower part of the main view: the output, read from the logbook a
// window at a time.
type stream struct {
	unit   string // whose lines; logbook.All for everybody's
	bottom int64  // how many lines end at the last row; -1 follows the newest
	wrap   bool
	height int // as last drawn
	err    error
}

func (s *stream) following() bool { return s.bottom < 0 }

func (s *stream) title() string {
	if s.unit == logbook.All {
		return "all output"
	}
	return "only " + s.unit
}

// status says where the stream stands, for the bottom line.
func (s *stream) status(m *model) string {
	if s.following() {
		return m.palette.dim.Render("following")
	}
	since := m.session.Log().Len(s.unit) - s.bottom
	return m.palette.stale.Render(fmt.Sprintf("%d lines since", since))
}

// entry is a line, or several equal ones in a row.
type entry struct {
	logbook.Line
	count int
}

// view draws the last lines that fit into height rows.
func (s *stream) view(m *model, height int) []string {
	s.height = height
	end := s.bottom
	if s.following() {
		end = m.session.Log().Len(s.unit)
	}
	var entries []entry
	for ask := int64(height); ; ask *= 4 {
		from := max(end-ask, 0)
		lines, err := m.session.Log().Window(s.unit, from, int(end-from))
		if s.err = err; err != nil {
			return pad(nil, height, m.width)
		}
		entries = fold(lines)
		if len(entries) >= height || from == 0 || ask > int64(64*height) {
			break
		}
	}
	return pad(s.rows(m, entries, height), height, m.width)
}

// fold joins lines that say the same thing again.
func fold(lines []logbook.Line) []entry {
	var entries []entry
	for _, l := range lines {
		if n := len(entries); n > 0 {
			last := &entries[n-1]
			if l.Text != "" && l.Stream == logbook.Output && last.Stream == logbook.Output && last.Unit == l.Unit && last.Text == l.Text {
				last.count++
				continue
			}
		}
		entries = append(entries, entry{l, 1})
	}
	return entries
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
func (s *stream) rows(m *model, entries []entry, height int) []string {
	clockWidth, nameWidth := s.gutter(m)
	width := m.width - clockWidth - nameWidth - 3
	used, first := 0, len(entries)
	var texts [][]string
	for first > 0 && used < height {
		first--
		e := entries[first]
		t := []string{s.ownWords(m, e)}
		if e.Stream == logbook.Output {
			t = s.text(m, e, width)
		}
		used += len(t)
		texts = append([][]string{t}, texts...)
	}
	var rows []string
	var before entry
	for i, e := range entries[first:] {
		when, who := "", ""
		if clock(e.At) != clock(before.At) {
			when = clock(e.At)
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

func (s *stream) nameStyle(m *model, e entry) lipgloss.Style {
	if s.old(m, e.At) {
		return m.palette.faint
	}
	return m.unitStyle(e.Unit)
}

// text is an entry's text in rows of at most width cells.
func (s *stream) text(m *model, e entry, width int) []string {
	text := strings.ReplaceAll(e.Text, "\t", "    ")
	if e.count > 1 {
		text = fmt.Sprintf("%s  (%d times)", text, e.count)
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
func (s *stream) ownWords(m *model, e entry) string {
	words := m.palette.toneStyle(e.Tone)
	if s.old(m, e.At) && e.Tone != logbook.Broken {
		words = m.palette.dim
	}
	if e.Unit == "" {
		return words.Bold(true).Render(e.Text)
	}
	return m.palette.faint.Render("╶ ") + words.Render(fmt.Sprintf("run %d %s", e.Run, e.Text))
}

// finish brings a row to the screen's width. What opens a run or concerns the
// whole project goes on as a thin line and so divides the output.
func (s *stream) finish(m *model, e entry, row string) string {
	if e.Stream != logbook.Opens && (e.Unit != "" || e.Stream == logbook.Output) || strings.HasPrefix(e.Text, " ") {
		return fit(row, m.width)
	}
	row = ansi.Truncate(row, m.width-2, "…")
	return row + m.palette.faint.Render(" "+strings.Repeat("╌", max(m.width-ansi.StringWidth(row)-2, 0))) + " "
}

// only shows the chosen unit's lines alone, or everybody's again.
func (s *stream) only(m *model) {
	at := m.shownTime()
	if s.unit == m.lanes.unit {
		s.unit = logbook.All
	} else {
		s.unit = m.lanes.unit
	}
	if !s.following() {
		s.goTo(m, at)
	}
}

// goTo shows what had been written up to that moment.
func (s *stream) goTo(m *model, at time.Time) {
	s.bottom, s.err = m.session.Log().Position(s.unit, at)
}

// page scrolls by most of a screen and takes the time cursor along.
func (s *stream) page(m *model, by int) { s.scroll(m, by*max(s.height-2, 1)) }

// scroll moves by that many lines; past the newest it follows again.
func (s *stream) scroll(m *model, by int) {
	total := m.session.Log().Len(s.unit)
	bottom := s.bottom
	if s.following() {
		if by > 0 {
			return
		}
		bottom = total
	}
	bottom = max(bottom+int64(by), min(int64(s.height), total))
	if bottom >= total {
		m.backToNow()
		return
	}
	s.bottom = bottom
	if lines, err := m.session.Log().Window(s.unit, bottom-1, 1); err == nil && len(lines) == 1 {
		m.at = lines[0].At
	}
}

func (s *stream) first(m *model) { s.scroll(m, -int(m.session.Log().Len(s.unit))) }
