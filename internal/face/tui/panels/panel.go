package panels

import (
	"fmt"

	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
)

// draw draws rows instead of the stream, below the lanes and a rule with a title.
func draw(m *view.Model, title string, width, height int, content func(room int) []string) []string {
	return overview.UnderLanes(m, title, height, func(room int) []string {
		rows := content(room)
		for i := range rows {
			rows[i] = cells.Fit(rows[i], width)
		}
		return view.Pad(rows, room, width)
	})
}

// keyRows explains the keys of a panel that do something now.
func keyRows(m *view.Model, panel, group string) []string {
	const keyWidth = 9
	var rows []string
	for _, b := range m.BindingsOf(panel) {
		if b.Group == group && (b.When == nil || b.When(m)) {
			key := m.Palette.Text.Render(fmt.Sprintf("%*s", keyWidth, b.Shown()))
			rows = append(rows, "  "+key+"  "+m.Palette.Dim.Render(b.Name))
		}
	}
	return rows
}
