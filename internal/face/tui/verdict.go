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
func (r *root) verdictView(width int) string {
	v := r.snap.Verdict
	word := r.palette.Banner[v.Word].Render("  " + strings.ToUpper(string(v.Word)) + "  ")
	mark, text := doubtMark(r.model)
	if silence := silence(r.model); silence != "" { // what nothing confirms is no verdict
		word, mark, text = r.palette.Banner[api.VerdictStopped].Render("  NO ANSWER  "), "", silence
	}
	left := word + "  " + mark + r.palette.Bright.Render(text)
	// The reason matters more than what is at the right.
	room := width - ansi.StringWidth(left) - 1
	for _, right := range cornerTexts(r.model) {
		if ansi.StringWidth(right) < room {
			return cells.Ends(left, r.palette.Dim.Render(right), width)
		}
	}
	return cells.Ends(left, "", width)
}

// cornerTexts are what may be shown next to the verdict: which project this is, who else looks
// at it and the time of day; each shorter than the one before.
func cornerTexts(m *model) []string {
	name, company, clock := m.snap.Project.Name+"  ", company(m), m.now.Format("15:04")+" "
	if company == "" {
		return []string{name + clock, clock}
	}
	return []string{name + company + "  " + clock, company + "  " + clock, company + " ", clock}
}

// company says who else looks at the project, and whether it continues without this screen.
func company(m *model) string {
	var parts []string
	if m.snap.Background {
		parts = append(parts, "in the background")
	}
	counts := map[string]int{}
	for _, f := range otherFaces(m) {
		counts[f.Kind]++
	}
	for _, kind := range slices.Sorted(maps.Keys(counts)) {
		name := map[string]string{"screen": "other screen", "plain": "stream"}[kind]
		parts = append(parts, "with "+format.Count(counts[kind], cmp.Or(name, kind)))
	}
	return strings.Join(parts, ", ")
}

// title is the verdict in short, for the terminal's own title.
func (r *root) title() string {
	if r.silent > 0 {
		return escape.Text("NO ANSWER  " + r.snap.Project.Name)
	}
	return escape.Text(strings.ToUpper(string(r.snap.Verdict.Word)) + "  " + r.snap.Project.Name)
}

// hintsView is the bottom line: the few keys that make sense now, and where the
// stream stands.
func (r *root) hintsView(width int) string {
	if f, ok := r.top().(typingView); ok {
		return cells.Ends(" "+f.line().input.View()+"  "+r.hints(r.bindingsOf(f.name()), width), f.status(r.model), width)
	}
	if !r.isOpen("overview") && !r.isOpen("help") {
		shown := r.bindingsOf(r.top().name())
		if !r.top().grabs(r.model) {
			shown = append(shown, r.unlessBound(r.top().name())...)
		}
		return cells.Fit(" "+r.hints(shown, width-1), width)
	}
	// However long it is, the keys keep their room.
	state := ansi.Truncate(focused(r.model).status(r.model), max(width/3, 12), "…")
	return cells.Ends(" "+r.hints(r.bindingsOf("overview"), width-ansi.StringWidth(state)-2), state+" ", width)
}

// unlessBound are the bindings of the overview that a view has no other meaning for.
func (r *root) unlessBound(view string) []*binding {
	return slices.DeleteFunc(
		r.bindingsOf("overview"),
		func(b *binding) bool { return lookUp(r.model, view, b.keys[0]) != nil },
	)
}

// hints says what keys do, as many as have room. Help and quitting must be found on the
// smallest screen, so they get room first.
func (r *root) hints(of []*binding, room int) string {
	parts := make([]string, len(of))
	taken := map[string]bool{}
	isFirst := func(b *binding) bool {
		return b.hint == "help" || b.hint == "quit" || b.hint == "back" || b.first != nil
	}
	for _, must := range []bool{true, false} {
		for i, b := range of {
			if b.hint == "" || must != isFirst(b) || b.when != nil && !b.when(r.model) || b.first != nil && !b.first(r.model) ||
				taken[b.keys[0]] {
				continue
			}
			part := r.palette.Text.Render(pairedKey(b)) + " " + r.palette.Dim.Render(b.hint) + "   "
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
