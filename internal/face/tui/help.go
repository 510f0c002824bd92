package tui

import (
	"fmt"
	"math"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/view"
)

// help lists every key by what it acts on.
type help struct{ top, page int }

func (*help) Name() string { return "help" }

func (*help) Grabs(*view.Model) bool { return true }

func (h *help) Update(_ *view.Model, msg tea.Msg) {
	if wheel, ok := msg.(tea.MouseWheelMsg); ok {
		if wheel.Button == tea.MouseWheelUp {
			h.top -= 3
		} else {
			h.top += 3
		}
	}
}

// onHelp scrolls the help.
func onHelp(by int) func(*view.Model) {
	return view.On(func(_ *view.Model, h *help) { h.top += by })
}

func toggleHelp(m *view.Model) {
	if m.IsOpen("help") {
		m.Close()
	} else {
		m.Open(&help{})
	}
}

func (h *help) Draw(m *view.Model, width, height int) []string {
	rows := h.columns(m, width)
	h.page = max(height-2, 1)
	if h.top = max(0, min(h.top, len(rows)-height)); h.top+height < len(rows) && height > 1 {
		more := fmt.Sprintf("    %d more lines below: ↓, or page down for a page", len(rows)-h.top-height+1)
		rows = append(slices.Clone(rows[h.top:h.top+height-1]), m.Palette.Dim.Render(more))
	} else {
		rows = rows[h.top:]
	}
	for i := range rows {
		rows[i] = cells.Fit(rows[i], width)
	}
	return view.Pad(rows, height, width)
}

// columnWidth is the width of one of two columns.
const columnWidth = 78

// columns arranges the sections below each other, or on a wide screen in two columns.
func (h *help) columns(m *view.Model, width int) []string {
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

// keyWidth is the width of the column of keys.
const keyWidth = 24

// sections are the keys of the current view, if it is not the overview, then the groups of keys of all views, then the
// textures of the lanes.
func (h *help) sections(m *view.Model) [][]string {
	var all [][]string
	if below := m.Stack[max(len(m.Stack)-2, 0)].Name(); below != "overview" {
		all = append(all, section(m, below+" view", m.BindingsOf(below), ""))
	}
	for _, g := range view.Groups {
		all = append(all, section(m, g, m.BindingsOf("overview"), g))
	}
	rows := []string{"", m.Palette.Bright.Render("  the lanes")}
	for _, l := range lanes.Legend {
		glyph, style := m.Palette.Texture(l.Cell)
		rows = append(rows, "    "+style.Render(strings.Repeat(glyph, 6))+strings.Repeat(" ", keyWidth-6)+l.Text)
	}
	return append(
		all,
		append(
			rows,
			"    "+m.Palette.Bright.Render(
				cells.Fit("?", keyWidth),
			)+"waiting for input, at a prompt or on a full screen",
		),
	)
}

// section lists the bindings of a group; empty: all of them.
func section(m *view.Model, title string, of []*view.Binding, group string) []string {
	rows := []string{"", m.Palette.Bright.Render("  " + title)}
	for _, b := range of {
		if group == "" || b.Group == group {
			rows = append(rows, "    "+m.Palette.Moving.Render(cells.Fit(b.Shown(), keyWidth))+b.Name)
		}
	}
	return rows
}

// helpKeys are those of the help.
var helpKeys = []view.Binding{
	{In: "help", Keys: []string{"esc", "q", "?"}, Name: "close", Hint: "close", Group: view.GroupField,
		Do: (*view.Model).Close},
	{In: "help", Keys: []string{"down", "j"}, Name: "next line", Group: view.GroupField,
		Do: onHelp(1)},
	{In: "help", Keys: []string{"up", "k"}, Name: "previous line", Hint: "scroll", Group: view.GroupField,
		Do: onHelp(-1)},
	{In: "help", Keys: []string{"pgdown", "space"}, Name: "next page", Hint: "scroll by a page", Group: view.GroupField,
		Do: view.On(func(_ *view.Model, h *help) { h.top += h.page })},
	{In: "help", Keys: []string{"pgup"}, Name: "previous page", Group: view.GroupField,
		Do: view.On(func(_ *view.Model, h *help) { h.top -= h.page })},
	{In: "help", Keys: []string{"home", "g"}, Name: "first line", Group: view.GroupField,
		Do: view.On(func(_ *view.Model, h *help) { h.top = 0 })},
	{In: "help", Keys: []string{"end", "G"}, Name: "last line", Group: view.GroupField,
		Do: view.On(func(_ *view.Model, h *help) { h.top = math.MaxInt32 })},
}
