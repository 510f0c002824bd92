// Package panels has the views that explain one thing: why a unit is in its state, a loop, the doubts about the
// verdict, and what was observed. Most replace the stream below the lanes. Start reading at whyView, loopPanel and
// doubtsPanel.
package panels

import (
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/card"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
)

// whyView explains the state of the selected unit: everything about a failure in one place. Keys act on the unit as in
// the lanes.
type whyView struct {
	Explained
	top, page int
	below     int    // how many rows are below the last one shown
	of        string // the unit that top is for
}

// ShowWhy opens the view.
func ShowWhy(m *view.Model) { m.Open(&whyView{}) }

func (*whyView) Name() string { return "why" }

func (*whyView) Grabs(*view.Model) bool { return false }

func (w *whyView) Update(_ *view.Model, msg tea.Msg) {
	if msg, ok := msg.(tea.MouseWheelMsg); ok {
		w.top += view.Wheel(msg)
	}
}

func (w *whyView) Draw(m *view.Model, width, height int) []string {
	u := m.Live.Unit(m.Selected)
	if u == nil {
		return view.Pad([]string{m.TitledRule("no unit selected", width)}, height, width)
	}
	if w.of != u.Name {
		w.of, w.top = u.Name, 0
	}
	all := w.rows(m, width)
	w.page = max(height-2, 1)
	w.top = max(0, min(w.top, len(all)-(height-1)))
	title := fmt.Sprintf("why  %s  %s  %s", u.Name, u.Kind, lanes.StateWord(u))
	if m.IsPast() {
		title += "  now"
	}
	if w.below = len(all) - w.top - (height - 1); w.below > 0 {
		title += fmt.Sprintf("  (%d more lines: page down)", w.below)
	}
	rows := append([]string{m.TitledRule(title, width)}, all[w.top:]...)
	for i := range rows {
		rows[i] = cells.Fit(rows[i], width)
	}
	return view.Pad(rows, height, width)
}

// rows are all sections.
func (w *whyView) rows(m *view.Model, width int) []string {
	if !w.Known(m) {
		// What is known without asking is shown at once.
		w.Explanation.Account = m.Live.Account(m.Live.Unit(m.Selected))
	}
	main, aside := width, width
	wide := width >= overview.WideEnough
	if wide {
		main = width * 3 / 5
		aside = width - main
	}
	var left, right []string
	for _, s := range card.Sections(w.Explanation, m.Snap.Project.Root, m.Now, byKey(m)) {
		if wide && s.Aside {
			right = append(right, sectionRows(m, s, aside)...)
		} else {
			left = append(left, sectionRows(m, s, main)...)
		}
	}
	if w.Problem != "" {
		left = append(left, "", "  "+m.Palette.Broken.Render(w.Problem))
	}
	for i, row := range right {
		if i == len(left) {
			left = append(left, "")
		}
		left[i] = cells.Fit(left[i], main) + row
	}
	return left
}

// sectionRows draws a section below an empty row.
func sectionRows(m *view.Model, s card.Section, width int) []string {
	var rows []string
	indent := ""
	if s.Title != "" {
		rows = append(rows, "", m.Palette.Bright.Render("  "+s.Title))
		indent = "  "
	}
	for _, row := range CardRows(m, s.Rows, width-len(indent)) {
		rows = append(rows, indent+row)
	}
	return rows
}

// byKey names the key that carries out a remedy.
func byKey(m *view.Model) card.Doing {
	return func(unit string, r api.Remedy) string {
		switch {
		case r.Action != "" && unit != m.Selected:
			return "" // keys act on the selected unit
		case r.Action == api.Restart:
			return " (key " + m.KeyOf("restart") + ")"
		case r.Action == api.Widen:
			return " (key " + m.KeyOf("remove-arguments") + ")"
		case r.File != "":
			return " (key " + m.KeyOf("edit") + ")"
		}
		return ""
	}
}

// CardRows draws rows of a section in width cells. Prose is wrapped; lines of files and of output are cut.
func CardRows(m *view.Model, rows []card.Row, width int) []string {
	var out []string
	for _, r := range rows {
		lines := []string{r.Text}
		if !isLine(r.Role) {
			indent := r.Text[:len(r.Text)-len(strings.TrimLeft(r.Text, " "))]
			lines = strings.Split(ansi.Wrap(r.Text, max(width-3, 20), ""), "\n")
			for i := 1; i < len(lines); i++ {
				lines[i] = indent + "  " + lines[i]
			}
		}
		if len(r.Words) > 0 {
			out = append(out, "  "+withWords(r, styleOf(m, r.Role)))
			continue
		}
		for _, line := range lines {
			out = append(out, "  "+styleOf(m, r.Role).Render(line))
		}
	}
	return out
}

// isLine reports whether a row is a line of a file or of output, which is not wrapped.
func isLine(r card.Role) bool {
	switch r {
	case card.Source, card.Marked, card.Output, card.Added, card.Removed:
		return true
	}
	return false
}

// withWords draws a row with the parts that stand out.
func withWords(r card.Row, style lipgloss.Style) string {
	var b strings.Builder
	at := 0
	word := style.Bold(true).Underline(true)
	for _, w := range r.Words {
		b.WriteString(style.Render(r.Text[at:w[0]]) + word.Render(r.Text[w[0]:w[1]]))
		at = w[1]
	}
	return b.String() + style.Render(r.Text[at:])
}

func styleOf(m *view.Model, r card.Role) lipgloss.Style {
	switch r {
	case card.Broken:
		return m.Palette.Broken
	case card.Quiet, card.Source, card.Removed:
		return m.Palette.Dim
	case card.Marked, card.Location, card.Added:
		return m.Palette.Bright
	}
	return m.Palette.Text
}

// more reports whether there are rows below.
func more(m *view.Model) bool {
	w, ok := m.Top().(*whyView)
	return ok && w.below > 0
}

// edit opens the first location of the failure in the editor.
func (w *whyView) edit(m *view.Model) {
	if f := w.Failure; w.Known(m) && f != nil {
		for _, r := range f.Remedies {
			if r.File != "" {
				m.OpenLocation(r.Location)
				return
			}
		}
	}
	m.Said = "no file is known to edit"
}

// onlyOutput goes back to the lanes, with only the output of the unit.
func onlyOutput(m *view.Model) {
	m.BackToLanes()
	overview.Focused(m).Only(m)
}

// WhyKeys are those of the view.
var WhyKeys = []view.Binding{
	{In: "why", Keys: []string{"enter"}, Name: "show only its output", Hint: "only its output", Group: view.GroupWhy,
		Do: onlyOutput},
	{In: "why", Keys: []string{"e"}, Name: "open the location in the editor", Hint: "editor", Group: view.GroupWhy,
		Do: view.On(func(m *view.Model, w *whyView) { w.edit(m) })},
	{In: "why", Keys: []string{"esc", "q", "y"}, Name: "close", Hint: "close", Group: view.GroupWhy,
		Do: (*view.Model).Close},
	{In: "why", Keys: []string{"pgdown", "space"}, Name: "scroll down", Hint: "scroll down", Group: view.GroupWhy,
		When: more, Unless: "this is the end",
		Do: view.On(func(_ *view.Model, w *whyView) { w.top += w.page })},
	{In: "why", Keys: []string{"pgup"}, Name: "scroll up", Group: view.GroupWhy,
		Do: view.On(func(_ *view.Model, w *whyView) { w.top -= w.page })},
	{In: "why", Keys: []string{"home", "g"}, Name: "first line", Group: view.GroupWhy,
		Do: view.On(func(_ *view.Model, w *whyView) { w.top = 0 })},
}
