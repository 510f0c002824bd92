package tui

import (
	"cmp"
	"maps"
	"slices"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// verdictView is the project's state in one line, the same on every view.
func (m *model) verdictView(width int) string {
	v := m.snap.Verdict
	word := m.palette.Banner[v.Word].Render("  " + strings.ToUpper(string(v.Word)) + "  ")
	mark, text := m.doubtMark()
	if silence := m.silence(); silence != "" { // what nothing confirms is no verdict
		word, mark, text = m.palette.Banner[api.VerdictStopped].Render("  NO ANSWER  "), "", silence
	}
	left := word + "  " + mark + m.palette.Bright.Render(text)
	// The reason matters more than what is at the right.
	room := width - ansi.StringWidth(left) - 1
	for _, right := range m.cornerTexts() {
		if ansi.StringWidth(right) < room {
			return cells.Ends(left, m.palette.Dim.Render(right), width)
		}
	}
	return cells.Ends(left, "", width)
}

// cornerTexts are what may be shown next to the verdict: which project this is, who else looks
// at it and the time of day; each shorter than the one before.
func (m *model) cornerTexts() []string {
	name, company, clock := m.snap.Project.Name+"  ", m.company(), m.now.Format("15:04")+" "
	if company == "" {
		return []string{name + clock, clock}
	}
	return []string{name + company + "  " + clock, company + "  " + clock, company + " ", clock}
}

// company says who else looks at the project, and whether it continues without this screen.
func (m *model) company() string {
	var parts []string
	if m.snap.Background {
		parts = append(parts, "in the background")
	}
	counts := map[string]int{}
	for _, f := range m.others() {
		counts[f.Kind]++
	}
	for _, kind := range slices.Sorted(maps.Keys(counts)) {
		name := map[string]string{"screen": "other screen", "plain": "stream"}[kind]
		parts = append(parts, "with "+format.Count(counts[kind], cmp.Or(name, kind)))
	}
	return strings.Join(parts, ", ")
}

// title is the verdict in short, for the terminal's own title.
func (m *model) title() string {
	if m.silent > 0 {
		return escape.Text("NO ANSWER  " + m.snap.Project.Name)
	}
	return escape.Text(strings.ToUpper(string(m.snap.Verdict.Word)) + "  " + m.snap.Project.Name)
}

// hintsView is the bottom line: the few keys that make sense now, and where the
// stream stands.
func (m *model) hintsView(width int) string {
	if f, ok := m.top().(typingView); ok {
		return cells.Ends(" "+f.line().input.View()+"  "+m.hints(m.bindingsOf(f.name()), width), f.status(m), width)
	}
	if !m.isOpen("overview") && !m.isOpen("help") {
		shown := m.bindingsOf(m.top().name())
		if !m.top().grabs(m) {
			shown = append(shown, m.unlessBound(m.top().name())...)
		}
		return cells.Fit(" "+m.hints(shown, width-1), width)
	}
	// However long it is, the keys keep their room.
	state := ansi.Truncate(m.stream().status(m), max(width/3, 12), "…")
	return cells.Ends(" "+m.hints(m.bindingsOf("overview"), width-ansi.StringWidth(state)-2), state+" ", width)
}

// unlessBound are the bindings of the overview that a view has no other meaning for.
func (m *model) unlessBound(view string) []*binding {
	return slices.DeleteFunc(
		m.bindingsOf("overview"),
		func(b *binding) bool { return lookUp(m, view, b.keys[0]) != nil },
	)
}

// hints says what keys do, as many as have room. Help and quitting must be found on the
// smallest screen, so they get room first.
func (m *model) hints(of []*binding, room int) string {
	parts := make([]string, len(of))
	taken := map[string]bool{}
	isFirst := func(b *binding) bool {
		return b.hint == "help" || b.hint == "quit" || b.hint == "back" || b.first != nil
	}
	for _, must := range []bool{true, false} {
		for i, b := range of {
			if b.hint == "" || must != isFirst(b) || b.when != nil && !b.when(m) || b.first != nil && !b.first(m) ||
				taken[b.keys[0]] {
				continue
			}
			part := m.palette.Text.Render(pairedKey(b)) + " " + m.palette.Dim.Render(b.hint) + "   "
			if w := ansi.StringWidth(part); w <= room {
				parts[i], taken[b.keys[0]] = part, true
				room -= w
			}
		}
	}
	return strings.TrimRight(strings.Join(parts, ""), " ")
}

// pairedKey shows both keys of a pair where the hint speaks for both.
func pairedKey(b *binding) string {
	switch b.hint {
	case "select":
		return "↑↓"
	case "time":
		return "←→"
	case "zoom":
		return "+-"
	}
	first := *b
	first.keys = b.keys[:1]
	return first.shown()
}
