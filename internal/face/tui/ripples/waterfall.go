package ripples

import (
	"cmp"
	"fmt"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// fallColumns are the widths of a waterfall's parts.
type fallColumns struct{ unit, run, bar, took, why int }

func fallColumnsOf(r *api.Ripple, width int) fallColumns {
	c := fallColumns{took: 2 + widest(r.Runs, func(ref *api.RunRef) time.Duration { return ref.Took.Duration() })}
	for _, ref := range r.Runs {
		c.unit, c.run = max(c.unit, ansi.StringWidth(ref.Unit)), max(c.run, len(view.RunName(ref)))
	}
	c.unit = min(c.unit, max(8, width/6))
	if width < 80 {
		c.run = 0
	}
	rest := width - 2 - c.unit - 1 - c.run - 2 - c.took - 1
	if width >= 100 {
		c.why = rest * 9 / 20
	}
	c.bar = max(rest-c.why, 5)
	return c
}

// left is the column at which the bars begin.
func (c fallColumns) left() int { return 2 + c.unit + 1 + c.run + 1 }

// waterfall draws the ripple's runs below each other, and all about the selected one.
func (v *ripples) waterfall(m *view.Model, r *api.Ripple, width, height int) []string {
	if len(r.Runs) == 0 {
		return []string{cells.Fit(m.Palette.Dim.Render("  it set nothing off"), width)}
	}
	v.bar = min(v.bar, len(r.Runs)-1)
	c := fallColumnsOf(r, width)
	w := timeline.WaterfallOf(r, m.Now, c.bar)
	rows := []string{cells.Fit(strings.Repeat(" ", c.left())+elapsedRow(m, w.Axis), width)}
	foot := v.foot(m, &w.Bars[v.bar], width)
	room := max(height-1-len(foot), 1)
	v.firstBar = view.Windowed(v.bar, len(w.Bars), room)
	for i := v.firstBar; i < len(w.Bars) && len(rows)-1 < room; i++ {
		rows = append(rows, v.barRow(m, &w.Bars[i], c, i == v.bar, width))
	}
	if r.MoreRuns > 0 && len(rows)-1 < room {
		rows = append(
			rows,
			cells.Fit(m.Palette.Dim.Render(fmt.Sprintf("  and %s after these", format.Count(r.MoreRuns, "run"))),
				width),
		)
	}
	rows = view.Pad(rows, room+1, width)
	return append(rows, foot...)
}

// elapsedRow labels an axis with the time since its start.
func elapsedRow(m *view.Model, a timeline.Axis) string {
	s := cells.NewStrip(a.N, " ", &m.Palette.Dim)
	for _, d := range a.Elapsed(12) {
		column := a.At(a.Start.Add(d))
		if s.Write(column+1, format.Duration(d), &m.Palette.Dim) {
			s.Set(column, "╷", &m.Palette.Faint)
		}
	}
	return s.String()
}

// barRow draws one run.
func (v *ripples) barRow(m *view.Model, b *timeline.Bar, c fallColumns, chosen bool, width int) string {
	mark, name := "  ", m.UnitStyle(b.Unit).Render(cells.Fit(b.Unit, c.unit))
	if chosen {
		mark = m.Palette.Bright.Render("▸ ")
		name = m.UnitStyle(b.Unit).Bold(true).Render(cells.Fit(b.Unit, c.unit))
	}
	row := mark + name + " "
	if c.run > 0 {
		row += m.Palette.Dim.Render(cells.Fit(view.RunName(b.RunRef), c.run))
	}
	row += " " + textures(m, b.Cells) + " "
	took, style := "", m.Palette.Dim
	if !b.From.IsZero() {
		took = format.Duration(b.Took())
	}
	if b.Failed {
		style = m.Palette.Broken
	}
	row += style.Render(fmt.Sprintf("%*s", c.took-1, took))
	if c.why > 0 {
		text := v.whyOf(b)
		if line := v.lineOf(m, b); b.Failed && line != "" {
			text, style = line, m.Palette.Broken
		}
		row += "  " + style.Render(cells.Fit(text, c.why-2))
	}
	return cells.Fit(row, width)
}

// textures draws cells of a lane.
func textures(m *view.Model, all []timeline.Cell) string {
	s := cells.NewStrip(len(all), " ", &m.Palette.Text)
	styles := map[timeline.Cell]*lipgloss.Style{}
	for i, c := range all {
		glyph, style := m.Palette.Texture(c)
		if styles[c] == nil {
			styles[c] = &style
		}
		s.Set(i, glyph, styles[c])
	}
	return s.String()
}

// whyOf tells in short why a run was ordered.
func (v *ripples) whyOf(b *timeline.Bar) string {
	if b.Pass > 0 {
		return "picks up changes by itself"
	}
	return cmp.Or(b.Because, "")
}

// foot tells about the selected run why it ran, what it waited for, where its time went, and why it failed.
func (v *ripples) foot(m *view.Model, b *timeline.Bar, width int) []string {
	said := m.UnitStyle(b.Unit).Render(b.Unit) + " " + view.RunName(b.RunRef)
	if why := v.whyOf(b); why != "" {
		said += m.Palette.Dim.Render(" because ") + why
	}
	var parts []string
	for _, w := range b.Waited {
		parts = append(parts, fmt.Sprintf("waited %s for %s", format.Duration(w.For), cmp.Or(w.On, "a job")))
	}
	for _, s := range b.Spans {
		if d := s.To.Sub(s.From); s.Phase != string(api.Waiting) && s.Phase != string(timeline.Queued) && d > 0 {
			parts = append(parts, strings.TrimSpace(s.Phase+" "+s.Step)+" "+format.Duration(d))
		}
	}
	if len(b.Spans) == 0 {
		parts = append(parts, "its spans are no longer kept")
	}
	rows := []string{
		m.TitledRule("", width),
		cells.Fit("  "+said, width),
		cells.Fit("  "+m.Palette.Dim.Render(strings.Join(parts, ", ")), width),
	}
	if line := v.lineOf(m, b); b.Failed && line != "" {
		rows = append(rows, cells.Fit("  "+m.Palette.Broken.Render(line), width))
	}
	return rows
}
