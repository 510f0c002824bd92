package stream

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
	"omnivigil/internal/output/structured"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// times is the kind of time that is shown before lines.
type times int

const (
	ofDay     times = iota // the time of day
	sinceSave              // how long after the last save before it
	sinceLine              // how long after the line before
	howManyTimes
)

// clock is the time of a line as it is shown after another line; empty where they have the same.
func (s *Stream) clock(m *view.Model, e, before api.Line) string {
	switch s.times {
	case sinceSave:
		if save := m.Snap.LastSave(e.At); !save.IsZero() {
			return "+" + short(e.At.Sub(save))
		}
	case sinceLine:
		if before.At.IsZero() {
			return ""
		}
		return "+" + short(e.At.Sub(before.At))
	}
	if format.Clock(e.At) == format.Clock(before.At) {
		return ""
	}
	return format.Clock(e.At)
}

// short is a duration in at most seven cells.
func short(d time.Duration) string {
	switch {
	case d < 100*time.Second:
		return fmt.Sprintf("%.3f", d.Seconds())
	case d < 100*time.Minute:
		return fmt.Sprintf("%d:%02d", int(d.Minutes()), int(d.Seconds())%60)
	}
	return fmt.Sprintf("%.1f h", d.Hours())
}

// gutter returns the widths of the time and of the unit's name, before a line's text.
func (s *Stream) gutter(m *view.Model, width int) (clockWidth, nameWidth int) {
	clockWidth, nameWidth = 9, lanes.ColumnsOf(m).Name
	if width < 70 {
		clockWidth = 0
		if s.times != ofDay {
			clockWidth = 8
		}
	}
	return
}

// drawLines draws lines from the last one up until the height is filled. Consecutive lines show the time and the unit
// only where these change.
func (s *Stream) drawLines(m *view.Model, width, height int) []string {
	entries := joined(s.page.Lines)
	clockWidth, nameWidth := s.gutter(m, width)
	used, first := 0, len(entries)
	var texts [][]string
	for first > 0 && used < height {
		first--
		t := s.textOf(m, entries[first], width-clockWidth-nameWidth-3)
		used += len(t)
		texts = append([][]string{t}, texts...)
	}
	s.shown, s.rows = entries[first:], s.rows[:0]
	var rows []string
	var before api.Line
	for i, e := range s.shown {
		when, who := s.clock(m, e, before), ""
		if e.Unit != before.Unit || before.Unit == "" {
			who = e.Unit
		}
		before = e
		for k, t := range texts[i] {
			if k > 0 {
				when, who = "", ""
			}
			row := s.marker(m, e) + m.Palette.Dim.Render(cells.Fit(when, clockWidth))
			if e.Unit != "" {
				row += s.nameStyle(m, e).Render(cells.Fit(who, nameWidth)) + "  "
			}
			rows, s.rows = append(rows, s.finish(m, e, row+t, width)), append(s.rows, i)
		}
	}
	if over := len(rows) - height; over > 0 {
		rows, s.rows = rows[over:], s.rows[over:]
	}
	return rows
}

// joined appends lines that continue another, such as what was typed at a prompt, to that line, unless there is other
// output between them.
func joined(all []api.Line) []api.Line {
	if !slices.ContainsFunc(all, func(l api.Line) bool { return l.Continues }) {
		return all
	}
	var out []api.Line
	for _, l := range all {
		if before := continued(out, l); before != nil {
			before.Text += l.Text
			continue
		}
		out = append(out, l)
	}
	return out
}

// continued returns the line that another continues, or nil. A note that the unit waits for an answer may be between
// them.
func continued(out []api.Line, l api.Line) *api.Line {
	for i := len(out) - 1; l.Continues && i >= 0 && out[i].Unit == l.Unit && out[i].Run == l.Run; i-- {
		switch out[i].Stream {
		case api.Output:
			return &out[i]
		case api.Note:
		default:
			return nil
		}
	}
	return nil
}

// marker is the cell before a line: whether it is pointed at, selected, marked, found, or reports a failure.
func (s *Stream) marker(m *view.Model, e api.Line) string {
	if p := s.selection; p != nil {
		if e.Number == p.at {
			return m.Palette.Chosen.Render("▸")
		}
		if p.has(e.Number) {
			return m.Palette.Chosen.Render(" ")
		}
	}
	marked := m.Marks[view.LineID{Session: s.Session, Number: e.Number}]
	found := s.search.hit == e.Number
	switch {
	case e.Stream == api.Output && e.Tone == api.ToneBroken && !marked && !found:
		return m.Palette.Broken.Render("╱") // as a failure in the lanes
	case e.Stream == api.Output && e.Tone == api.ToneStale && !marked && !found:
		return m.Palette.Stale.Render("┄")
	case marked:
		return m.Palette.Bright.Render("◆")
	case found:
		return m.Palette.Bright.Render("▸")
	case e.New:
		return m.Palette.Moving.Render("+") // of a kind that its unit had not written before the last save
	}
	return " "
}

// old reports whether a line is dimmed: it was written before the last save, and the stream follows. So there is no
// need to clear the screen.
func (s *Stream) old(m *view.Model, at time.Time) bool {
	return s.Following() && at.Before(m.Snap.LastSave(m.ShownTime()))
}

func (s *Stream) nameStyle(m *view.Model, e api.Line) lipgloss.Style {
	if s.old(m, e.At) {
		return m.Palette.Dim
	}
	return m.UnitStyle(e.Unit)
}

// textOf is a line's text in rows of at most width cells.
func (s *Stream) textOf(m *view.Model, e api.Line, width int) []string {
	if e.Stream != api.Output {
		return []string{s.marked(m, s.ownWords(m, e))}
	}
	text := view.Stops(e.Text)
	if u := m.Snap.Unit(e.Unit); !s.raw && (u == nil || !u.AsWritten) {
		if l, is := structured.Parse(escape.Strip(e.Text)); is {
			text = structuredText(m, l, e.At, width)
		}
	}
	switch {
	case e.Times > 1 && e.Similar:
		text = fmt.Sprintf("%s  (%d similar)", text, e.Times)
	case e.Times > 1:
		text = fmt.Sprintf("%s  (%d times)", text, e.Times)
	}
	style := m.Palette.Text
	if s.old(m, e.At) {
		text, style = escape.Strip(text), m.Palette.Dim
	}
	text = s.pointed(e, s.marked(m, text))
	if !s.wrap {
		return []string{style.Render(ansi.Truncate(text, width, "…")) + "\x1b[0m"}
	}
	rows := strings.Split(ansi.Hardwrap(text, max(width, 1), true), "\n")
	for i := range rows {
		rows[i] = style.Render(rows[i]) + "\x1b[0m"
	}
	return rows
}

// messageWidth is the minimum width of a structured line's message, so that fields line up; on a narrow screen it is a
// third of the width.
const messageWidth = 32

// structuredText is a structured line: its level, message and fields. Its own time comes first if it differs from the
// time when the line was written, which is at the left.
func structuredText(m *view.Model, l structured.Line, written time.Time, width int) string {
	const justThen = 2 * time.Second
	var b strings.Builder
	if at, is := l.Time(); l.At != "" && (!is || at.Sub(written).Abs() > justThen) {
		text := l.At
		if is {
			text = at.Local().Format("2006-01-02 15:04:05.000")
		}
		b.WriteString(m.Palette.Dim.Render(text) + " ")
	}
	level := cells.Fit(l.Level.String(), 7)
	message := l.Message
	switch l.Level {
	case query.Error:
		level, message = m.Palette.Broken.Render(level), m.Palette.Bright.Render(message)
	case query.Warning:
		level = m.Palette.Stale.Render(level)
	default:
		level = m.Palette.Dim.Render(level)
	}
	if len(l.Fields) > 0 {
		message = message + strings.Repeat(" ", max(min(messageWidth, width/3)-ansi.StringWidth(message), 0))
	}
	b.WriteString(level + " " + message)
	for _, f := range l.Fields {
		b.WriteString(
			"  " + m.Palette.Dim.Render(f.Name+"="+strings.ReplaceAll(f.Value, "\n", " ")),
		)
	}
	return b.String()
}

// marked highlights the matches of the search in a text with any colors.
func (s *Stream) marked(_ *view.Model, text string) string {
	if s.search.matcher == nil {
		return text
	}
	return reversed(text, s.search.matcher.All([]byte(escape.Strip(text))))
}

// pointed highlights the value of the line that is pointed at.
func (s *Stream) pointed(e api.Line, text string) string {
	if s.selection == nil || s.selection.at != e.Number {
		return text
	}
	value := s.Value()
	at := strings.Index(escape.Strip(text), value)
	if at < 0 || value == "" {
		return text
	}
	return reversed(text, [][]int{{at, at + len(value)}})
}

// reversed reverses the colors of parts of a text with any colors, given as bytes of the visible text.
func reversed(text string, all [][]int) string {
	if len(all) == 0 {
		return text
	}
	const on, off = "\x1b[7m", "\x1b[27m"
	var b strings.Builder
	at, inside := 0, false // in the visible text
	for rest := []byte(text); len(rest) > 0; {
		seq, width, n, _ := ansi.DecodeSequence(rest, 0, nil)
		visible := width > 0 || len(seq) > 0 && seq[0] != 0x1b
		if !visible {
			if b.Write(seq); inside { // it may have ended the mark
				b.WriteString(on)
			}
			rest = rest[max(n, 1):]
			continue
		}
		for len(all) > 0 && at >= all[0][1] {
			all = all[1:]
		}
		if is := len(all) > 0 && at >= all[0][0]; is != inside {
			if inside = is; is {
				b.WriteString(on)
			} else {
				b.WriteString(off)
			}
		}
		b.Write(rest[:max(n, 1)])
		at += max(n, 1)
		rest = rest[max(n, 1):]
	}
	if inside {
		b.WriteString(off)
	}
	return b.String()
}

// ownWords is an event of Omnivigil, in the color of its meaning.
func (s *Stream) ownWords(m *view.Model, e api.Line) string {
	words := m.Palette.ToneStyle(e.Tone)
	if s.old(m, e.At) && e.Tone != api.ToneBroken {
		words = m.Palette.Dim
	}
	if e.Unit == "" {
		return words.Bold(true).Render(e.Text)
	}
	if e.Run == 0 { // about the unit, not about a run
		return m.Palette.Faint.Render("╶ ") + words.Render(e.Text)
	}
	return m.Palette.Faint.Render("╶ ") + words.Render(fmt.Sprintf("run %d %s", e.Run, e.Text))
}

// finish fits a row to the stream's width. After the start of a run and after events of the project a thin line divides
// the output.
func (s *Stream) finish(m *view.Model, e api.Line, row string, width int) string {
	if e.Stream != api.Opens && (e.Unit != "" || e.Stream == api.Output) || strings.HasPrefix(e.Text, " ") {
		return cells.Fit(row, width)
	}
	row = ansi.Truncate(row, width-2, "…")
	return row + m.Palette.Faint.Render(" "+strings.Repeat("╌", max(width-ansi.StringWidth(row)-2, 0))) + " "
}
