package tui

import (
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/text/format"
)

// pad cuts rows to height, or adds empty ones of width cells.
func pad(rows []string, height, width int) []string {
	for len(rows) < height {
		rows = append(rows, strings.Repeat(" ", width))
	}
	return rows[:max(height, 0)]
}

// windowed returns the first of height rows to draw, of total, so that the one at a place is among them.
func windowed(at, total, height int) int { return max(0, min(at-height/2, total-height)) }

// wheel is how many rows a turn of the mouse wheel scrolls.
func wheel(msg tea.MouseWheelMsg) int {
	if msg.Button == tea.MouseWheelUp {
		return -3
	}
	return 3
}

// titledRule is a thin line with a title.
func (m *model) titledRule(title string, width int) string {
	s := cells.NewStrip(width, "─", &m.palette.Faint)
	if title == "" {
		return s.String()
	}
	s.Write(1, " "+ansi.Truncate(title, max(width-6, 1), "…")+" ", &m.palette.Dim)
	return s.String()
}

// moment is a time that is as wide as all others of the session: with its day, if the session began on another.
func (m *model) moment(t time.Time) string {
	width := len("15:04:05")
	if since := m.snap.Project.Since; since.YearDay() != m.now.YearDay() || since.Year() != m.now.Year() {
		width = len("31 Dec 15:04")
	}
	return cells.Fit(format.Moment(t, m.now), width)
}

// stops replaces tabs by spaces, up to their stops.
func stops(text string) string {
	const every = 8
	if !strings.Contains(text, "\t") {
		return text
	}
	var b strings.Builder
	column := 0
	for i, part := range strings.Split(text, "\t") {
		if i > 0 {
			n := every - column%every
			b.WriteString(strings.Repeat(" ", n))
			column += n
		}
		b.WriteString(part)
		column += ansi.StringWidth(part)
	}
	return b.String()
}
