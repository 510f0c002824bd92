package tui

import (
	"omnivigil/internal/visible"
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
	return visible.Text(m.snap.Verdict.Word.String() + "  " + m.snap.Project)
}

// hintsView is the bottom line: the few keys that make sense now, and where the
// stream stands.
func (m *model) hintsView(width int) string {
	switch {
	case m.find.open:
		return fit(" "+m.find.input.View()+m.keysText("enter", "keep", "esc", "show all", "↑↓", "choose"), width)
	case m.question.asking():
		return fit(m.keysText("enter", "ask", "esc", "leave the field"), width)
	case m.question.open:
		return fit(m.keysText("enter", "type a path", "esc", "close", "↑↓", "choose", "r", "restart", "s", "stop", "p", "pause"), width)
	case m.loop.open:
		return fit(m.keysText("esc", "close"), width)
	}
	// However long it is, the keys keep their room.
	state := ansi.Truncate(m.stream.status(m), max(width/3, 12), "…")
	room := width - ansi.StringWidth(state) - 2
	parts := make([]string, len(bindings))
	// Help and quitting must be found on the smallest screen, so they get room first.
	for _, must := range []bool{true, false} {
		for i, k := range bindings {
			if k.hint == "" || must != (k.hint == "help" || k.hint == "quit") || k.when != nil && !k.when(m) {
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

// keysText writes pairs of a key and what it does.
func (m *model) keysText(pairs ...string) string {
	var b strings.Builder
	for i := 0; i+1 < len(pairs); i += 2 {
		b.WriteString(" " + m.palette.text.Render(pairs[i]) + m.palette.dim.Render(" "+pairs[i+1]) + "  ")
	}
	return b.String()
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
