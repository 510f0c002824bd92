package panels

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// doubtsPanel lists the doubts about the verdict, what ends each of them, and the keys for that.
type doubtsPanel struct{}

func (*doubtsPanel) Name() string { return "doubts" }

func (*doubtsPanel) Grabs(*view.Model) bool { return true }

func (*doubtsPanel) Update(*view.Model, tea.Msg) {}

func ShowDoubts(m *view.Model) { m.Open(&doubtsPanel{}) }

// Draw draws the panel instead of the stream.
func (d *doubtsPanel) Draw(m *view.Model, width, height int) []string {
	return draw(m, "doubts", width, height, func(room int) []string { return d.rows(m, room) })
}

func (d *doubtsPanel) rows(m *view.Model, room int) []string {
	rows := []string{""}
	add := func(format string, args ...any) { rows = append(rows, "  "+fmt.Sprintf(format, args...)) }
	doubts := m.Snap.Doubts
	if len(doubts) == 0 {
		add("no doubts")
		return rows
	}
	add("%s: reasons why what is shown as current may not be", format.Count(len(doubts), "doubt"))
	add("")
	shown := doubts[:min(len(doubts), max((room-8)/2, 1))]
	for _, one := range shown {
		add(
			"%s %s  %s",
			m.Palette.Stale.Render("?"),
			m.Palette.Text.Render(one.What),
			m.Palette.Dim.Render("since "+format.Clock(one.Since)),
		)
		add("  %s", m.Palette.Dim.Render("to end it: "+one.Ends))
	}
	if more := len(doubts) - len(shown); more > 0 {
		add("and %d more", more)
	}
	add("")
	return append(rows, keyRows(m, "doubts", view.GroupDoubts)...)
}

// anyDoubt reports whether there is a doubt of one of some kinds.
func anyDoubt(m *view.Model, kinds ...string) bool {
	return slices.ContainsFunc(m.Snap.Doubts, func(d api.Doubt) bool { return slices.Contains(kinds, d.Kind) })
}

// DoubtKeys are those of the panel.
var DoubtKeys = []view.Binding{
	{In: "doubts", Keys: []string{"enter"}, Name: "touch the files in doubt (as if saved)",
		Hint: "touch the files", Group: view.GroupDoubts,
		When:   func(m *view.Model) bool { return anyDoubt(m, "older-file", "saved-during-run") },
		Unless: "no doubt is about the time of a file",
		Do:     func(m *view.Model) { m.Ask(api.Touch) }},
	{In: "doubts", Keys: []string{"O"}, Name: "add the missing rules", Hint: "add the rules", Group: view.GroupDoubts,
		When:   func(m *view.Model) bool { return anyDoubt(m, string(api.UncoveredRead)) },
		Unless: "no rule is missing",
		Do: func(m *view.Model) {
			m.Close()
			ShowObserved(m)
		}},
	{In: "doubts", Keys: []string{"backspace"}, Name: "dismiss all", Hint: "dismiss", Group: view.GroupDoubts,
		Do: func(m *view.Model) { m.Ask(api.Dismiss) }},
	{In: "doubts", Keys: []string{"esc", "q", "D", "ctrl+c"}, Name: "close", Hint: "close", Group: view.GroupField,
		Do: (*view.Model).Close},
}
