package tui

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// twoLines is the height of the screen from which the verdict may have two lines.
const twoLines = 20

// verdictView is the verdict, the same in every view; rest is what did not fit, for a second line.
func (r *root) verdictView(width int) (line, rest string) {
	v := r.Snap.Verdict
	word := r.Palette.Banner[v.Word].Render("  " + strings.ToUpper(string(v.Word)) + "  ")
	mark, text := doubtMark(r.Model)
	if r.IsPast() {
		word, mark, text = r.pastVerdict()
	}
	if silence := silence(r.Model); silence != "" { // an unconfirmed verdict is not a verdict
		word, mark, text = r.Palette.Banner[api.VerdictStopped].Render("  NO ANSWER  "), "", silence
	}
	left := word + "  " + mark + r.Palette.Bright.Render(text)
	// The reason matters more than the right corner.
	corner := cornerTexts(r.Model)
	if r.IsPast() && r.Silent == 0 { // what is true now matters more than the past
		word := r.Live.Verdict.Word
		now := "now " + strings.ToUpper(string(word)) + " "
		return cells.Ends(cells.Fit(left, width-len(now)-2), r.Palette.VerdictStyle(word).Render(now), width), ""
	}
	room := width - ansi.StringWidth(left) - 1
	alarm := alarm(r.Model)
	for _, right := range corner {
		if ansi.StringWidth(alarm)+ansi.StringWidth(right) < room {
			return cells.Ends(left, alarm+r.Palette.Dim.Render(right), width), ""
		}
	}
	room = width - ansi.StringWidth(alarm)
	if ansi.StringWidth(left) <= room || r.Height < twoLines {
		return cells.Ends(cells.Fit(left, room), alarm, width), ""
	}
	indent := ansi.StringWidth(word) + 2
	first, rest, _ := strings.Cut(ansi.Wrap(text, max(room-indent-ansi.StringWidth(mark), 8), ""), "\n")
	line = cells.Ends(cells.Fit(word+"  "+mark+r.Palette.Bright.Render(first), room), alarm, width)
	rest = r.Palette.Bright.Render(strings.ReplaceAll(rest, "\n", " "))
	return line, cells.Fit(strings.Repeat(" ", indent)+rest, width)
}

// pastVerdict is the verdict at the time cursor, marked as past: a frame instead of the solid banner, and the time.
func (r *root) pastVerdict() (word, mark, text string) {
	v := r.Snap.Verdict
	mark = r.Palette.Chosen.Render(" at "+r.Cursor()+" ") + "  "
	switch {
	case !r.PastKnown():
		return r.Palette.Dim.Render("  UNKNOWN  "), mark, "no verdict of that time is kept"
	case v.Word == "":
		return r.Palette.Dim.Render("  …  "), mark, ""
	}
	return r.Palette.VerdictStyle(v.Word).Render("  " + strings.ToUpper(string(v.Word)) + "  "), mark, v.Text
}

// cornerTexts are what may be shown in the right corner: the project, the other faces and the time of day; each is
// shorter than the one before.
func cornerTexts(m *view.Model) []string {
	name, company, clock := m.Snap.Project.Name+"  ", company(m), m.Now.Format("15:04")+" "
	if m.Remote != nil {
		name = m.Snap.Project.Name + " on " + m.Remote.Host + "  "
	}
	if company == "" {
		return []string{name + clock, clock}
	}
	return []string{name + company + "  " + clock, company + "  " + clock, company + " ", clock}
}

// company tells which other faces are attached, and whether the project runs in the background.
func company(m *view.Model) string {
	var parts []string
	if m.Snap.Background {
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

// title is the verdict in short, for the terminal's title.
func (r *root) title() string {
	if r.Silent > 0 {
		return escape.Text("NO ANSWER  " + r.Snap.Project.Name)
	}
	return escape.Text(strings.ToUpper(string(r.Live.Verdict.Word)) + "  " + r.Live.Project.Name)
}

// hintsView is the bottom line: the few keys that are useful now, and the stream's position.
func (r *root) hintsView(width int) string {
	if f, ok := r.Top().(view.Typing); ok {
		line := " " + f.Line().Input.View() + "  " + r.hints(r.BindingsOf(f.Name()), width)
		return cells.Ends(line, f.Status(r.Model), width)
	}
	if !r.IsOpen("overview") {
		shown := r.BindingsOf(r.Top().Name())
		if !r.Top().Grabs(r.Model) {
			shown = append(shown, r.unlessBound(r.Top().Name())...)
		}
		return cells.Fit(" "+r.hints(shown, width-1), width)
	}
	// A long position leaves room for the keys.
	state := ansi.Truncate(overview.Focused(r.Model).Status(r.Model), max(width/3, 12), "…")
	return cells.Ends(" "+r.hints(r.BindingsOf("overview"), width-ansi.StringWidth(state)-2), state+" ", width)
}

// unlessBound are the bindings of the overview whose keys have no other meaning in a view.
func (r *root) unlessBound(name string) []*view.Binding {
	return slices.DeleteFunc(
		r.BindingsOf("overview"),
		func(b *view.Binding) bool { return view.LookUp(r.Model, name, b.Keys[0]) != nil },
	)
}

// hints tells what keys do, as many as there is room for. Help and quit come first: they must be found on the smallest
// screen.
func (r *root) hints(of []*view.Binding, room int) string {
	parts := make([]string, len(of))
	taken := map[string]bool{}
	isFirst := func(b *view.Binding) bool {
		return b.Hint == "help" || b.Hint == "quit" || b.Hint == "back" || b.First != nil
	}
	for _, must := range []bool{true, false} {
		for i, b := range of {
			off := b.When != nil && !b.When(r.Model) || b.First != nil && !b.First(r.Model)
			if off || b.Hint == "" || must != isFirst(b) || taken[b.Keys[0]] {
				continue
			}
			part := r.Palette.Text.Render(pairedKey(b)) + " " + r.Palette.Dim.Render(b.Hint) + "   "
			if w := ansi.StringWidth(part); w <= room {
				parts[i], taken[b.Keys[0]] = part, true
				room -= w
			}
		}
	}
	return strings.TrimRight(strings.Join(parts, ""), " ")
}

// pairedKey shows both keys of a pair if the hint is about both.
func pairedKey(b *view.Binding) string {
	switch b.Hint {
	case "select", "scroll":
		return "↑↓"
	case "time":
		return "←→"
	case "zoom":
		return "+-"
	}
	first := *b
	first.Keys = b.Keys[:1]
	return first.Shown()
}

// doubtMark returns what is shown after the verdict's word if there are doubts, and the verdict's text without them.
func doubtMark(m *view.Model) (mark, text string) {
	v, n := m.Snap.Verdict, len(m.Snap.Doubts)
	if v.Word != api.VerdictCurrent || n == 0 {
		return "", v.Text
	}
	text, first, found := strings.Cut(v.Text, "; "+format.Count(n, "doubt")+": ")
	if !found {
		return "", v.Text
	}
	return m.Palette.Stale.Render("? "+format.Count(n, "doubt")+": "+first) + "  ", text
}

// silentMsg is sent while the project does not answer, with the time since it last did; 0: it answers again.
type silentMsg time.Duration

// silence is what is shown instead of an unconfirmed verdict; empty: the project answers.
func silence(m *view.Model) string {
	if m.Silent == 0 {
		return ""
	}
	if m.Remote != nil {
		return fmt.Sprintf("no answer from %s for %s; the connection may be lost, and is opened again", m.Remote.Host,
			format.Duration(m.Silent))
	}
	return fmt.Sprintf(
		"no answer from the project for %s; its process %d may be stopped",
		format.Duration(m.Silent),
		m.Snap.Project.Supervisor,
	)
}
