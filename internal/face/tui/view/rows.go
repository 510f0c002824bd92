package view

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/text/format"
)

// Pad cuts rows to height, or adds empty ones of width cells.
func Pad(rows []string, height, width int) []string {
	for len(rows) < height {
		rows = append(rows, strings.Repeat(" ", width))
	}
	return rows[:max(height, 0)]
}

// Windowed returns the first of height rows to draw, of total, so that a row is among them.
func Windowed(at, total, height int) int { return max(0, min(at-height/2, total-height)) }

// Wheel is how many rows a turn of the mouse wheel scrolls.
func Wheel(msg tea.MouseWheelMsg) int {
	if msg.Button == tea.MouseWheelUp {
		return -3
	}
	return 3
}

// TitledRule is a thin line with a title.
func (m *Model) TitledRule(title string, width int) string {
	s := cells.NewStrip(width, "─", &m.Palette.Faint)
	if title == "" {
		return s.String()
	}
	s.Write(1, " "+ansi.Truncate(title, max(width-6, 1), "…")+" ", &m.Palette.Dim)
	return s.String()
}

// Moment is a time, as wide as all others of the session: with the day, if the session began on another day.
func (m *Model) Moment(t time.Time) string {
	width := len("15:04:05")
	if since := m.Snap.Project.Since; since.YearDay() != m.Now.YearDay() || since.Year() != m.Now.Year() {
		width = len("31 Dec 15:04")
	}
	return cells.Fit(format.Moment(t, m.Now), width)
}

// Stops replaces tabs by spaces, up to their stops.
func Stops(text string) string {
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

// RunName is the number of a run, or of a pass of it.
func RunName(ref *api.RunRef) string {
	if ref.Pass > 0 {
		return fmt.Sprintf("pass %d", ref.Pass)
	}
	return fmt.Sprintf("run %d", ref.Number)
}
