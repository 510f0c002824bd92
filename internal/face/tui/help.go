package tui

import (
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/face/tui/cells"
)

// help lists every key by what it acts on, from the one table.
type help struct{ top int }

func (*help) name() string { return "help" }

func (*help) grabs(*model) bool { return false }

func (h *help) update(_ *model, msg tea.Msg) {
	if wheel, ok := msg.(tea.MouseWheelMsg); ok {
		if wheel.Button == tea.MouseWheelUp {
			h.top -= 3
		} else {
			h.top += 3
		}
	}
}

// onHelp moves the help.
func onHelp(by int) func(*model) {
	return on(func(_ *model, h *help) { h.top += by })
}

func toggleHelp(m *model) {
	if m.isOpen("help") {
		m.close()
	} else {
		m.open(&help{})
	}
}

func (h *help) draw(m *model, width, height int) []string {
	rows := h.columns(m, width)
	if h.top = max(0, min(h.top, len(rows)-height)); h.top+height < len(rows) && height > 1 {
		more := fmt.Sprintf("    %d more lines below: ↓ or page down", len(rows)-h.top-height+1)
		rows = append(slices.Clone(rows[h.top:h.top+height-1]), m.palette.Dim.Render(more))
	} else {
		rows = rows[h.top:]
	}
	for i := range rows {
		rows[i] = cells.Fit(rows[i], width)
	}
	return pad(rows, height, width)
}

// columnWidth is how wide one of two columns has to be.
const columnWidth = 78

// columns puts the sections below each other, or in two columns where they have room.
func (h *help) columns(m *model, width int) []string {
	sections := h.sections(m)
	if width < 2*columnWidth {
		return slices.Concat(sections...)
	}
	total := 0
	for _, s := range sections {
		total += len(s)
	}
	var left, right []string
	for _, s := range sections {
		if len(right) == 0 && len(left)+len(s) <= (total+1)/2+len(s)/2 {
			left = append(left, s...)
		} else {
			right = append(right, s...)
		}
	}
	for len(left) < len(right) {
		left = append(left, "")
	}
	for i := range right {
		left[i] = cells.Fit(left[i], width/2) + right[i]
	}
	return left
}

// keyWidth is how wide the column of keys is.
const keyWidth = 24

// sections are the keys of the view that one is in, where that is another than the overview, the
// groups of those of all views, and what the lanes show.
func (h *help) sections(m *model) [][]string {
	var all [][]string
	if below := m.stack[max(len(m.stack)-2, 0)].name(); below != "overview" {
		all = append(all, section(m, below+" view", m.bindingsOf(below), ""))
	}
	for _, g := range groups {
		all = append(all, section(m, g, m.bindingsOf("overview"), g))
	}
	rows := []string{"", m.palette.Bright.Render("  the lanes")}
	for _, l := range legend {
		glyph, style := m.palette.Texture(l.cell)
		rows = append(rows, "    "+style.Render(strings.Repeat(glyph, 6))+strings.Repeat(" ", keyWidth-6)+l.text)
	}
	return append(
		all,
		append(
			rows,
			"    "+m.palette.Bright.Render(
				cells.Fit("?", keyWidth),
			)+"waiting for input, at a prompt or on a full screen",
		),
	)
}

// section lists the bindings of a group; empty: all of them.
func section(m *model, title string, of []*binding, group string) []string {
	rows := []string{"", m.palette.Bright.Render("  " + title)}
	for _, b := range of {
		if group == "" || b.group == group {
			rows = append(rows, "    "+m.palette.Moving.Render(cells.Fit(b.shown(), keyWidth))+b.name)
		}
	}
	return rows
}
