package tui

import (
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"
)

// verdictView is the project's state in one line, the same on every view.
func (m *model) verdictView(width int) string {
	v := m.snap.Verdict
	word := m.palette.banner[v.Word].Render("  " + v.Word.String() + "  ")
	right := m.palette.dim.Render(m.snap.Project + "  " + m.now.Format("15:04") + " ")
	if width < 100 {
		right = m.palette.dim.Render(m.now.Format("15:04") + " ")
	}
	left := word + "  " + m.palette.bright.Render(v.Text)
	if ansi.StringWidth(left)+ansi.StringWidth(right) >= width {
		right = "" // the reason matters more than the time of day
	}
	return ends(left, right, width)
}

// title is the verdict in short, for the terminal's own title.
func (m *model) title() string {
	return m.snap.Verdict.Word.String() + "  " + m.snap.Project
}

// hintsView is the bottom line: the few keys that make sense now, and where the
// stream stands.
func (m *model) hintsView(width int) string {
	if m.question.open {
		return fit(" "+m.palette.text.Render("enter")+m.palette.dim.Render(" ask   ")+m.palette.text.Render("esc")+
			m.palette.dim.Render(" close   ")+m.palette.text.Render("↑↓")+m.palette.dim.Render(" choose"), width)
	}
	if m.loop.open {
		return fit(" "+m.palette.text.Render("esc")+m.palette.dim.Render(" close"), width)
	}
	state := m.stream.status(m)
	room := width - ansi.StringWidth(state) - 2
	parts := make([]string, len(bindings))
	// Help and leaving must be found on the smallest screen, so they get room first.
	for _, must := range []bool{true, false} {
		for i, k := range bindings {
			if k.hint == "" || must != (k.hint == "help" || k.hint == "leave") || k.when != nil && !k.when(m) {
				continue
			}
			part := m.palette.text.Render(pairedKey(k)) + " " + m.palette.dim.Render(k.hint) + "   "
			if w := ansi.StringWidth(part); w <= room {
				parts[i] = part
				room -= w
			}
		}
	}
	return ends(" "+strings.TrimRight(strings.Join(parts, ""), " "), state+" ", width)
}

// pairedKey shows both keys of a pair where the hint speaks for both.
func pairedKey(b binding) string {
	switch b.hint {
	case "choose":
		return "↑↓"
	case "time":
		return "←→"
	case "zoom":
		return "+-"
	}
	first := b
	first.keys = b.keys[:1]
	return first.shown()
}

func clock(t time.Time) string { return t.Format("15:04:05") }
