package tui

import (
	"strings"
)

// helpView lists every key by what it acts on, from the one table.
func (m *model) helpView(width, height int) []string {
	var rows []string
	const keyWidth = 26
	for _, g := range groups {
		rows = append(rows, "", m.palette.bright.Render("  "+g))
		for _, b := range bindings {
			if b.group == g {
				rows = append(rows, "    "+m.palette.moving.Render(fit(b.shown(), keyWidth))+b.name)
			}
		}
	}
	rows = append(rows, "", m.palette.bright.Render("  the lanes"))
	for _, l := range legend {
		glyph, style := m.palette.texture(l.cell)
		rows = append(rows, "    "+style.Render(strings.Repeat(glyph, 6))+strings.Repeat(" ", keyWidth-6)+l.text)
	}
	m.helpTop = max(0, min(m.helpTop, len(rows)-height))
	rows = rows[m.helpTop:]
	for i := range rows {
		rows[i] = fit(rows[i], width)
	}
	return pad(rows, height, width)
}

// pad cuts rows to height or fills up with empty ones.
func pad(rows []string, height, width int) []string {
	for len(rows) < height {
		rows = append(rows, strings.Repeat(" ", width))
	}
	return rows[:max(height, 0)]
}
