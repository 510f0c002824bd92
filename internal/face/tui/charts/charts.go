// Package charts is the view of what units use over time. Its graphs are part of the view of one unit, too. Start
// reading at charts.
package charts

import (
	"fmt"
	"math"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/face/draw"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
)

// charts is the view of what units use over time, on the axis of the lanes.
type charts struct {
	measure int  // index into timeline.Measures
	chosen  bool // by the user, or because it has data
	alone   bool
	largest bool
	top     int
	byDay   bool // the chart over days is shown
	days    days
}

// Show shows the first chart that has data, or the first one.
func Show(m *view.Model) { m.Show(&charts{}) }

// ShowMeasure shows the chart of a measure, an index into timeline.Measures.
func ShowMeasure(m *view.Model, measure int) { m.Show(&charts{measure: measure, chosen: true}) }

func (*charts) Name() string { return "charts" }

func (*charts) Grabs(*view.Model) bool { return false }

// ShowsAxis makes the keys that zoom act.
func (*charts) ShowsAxis() {}

func (v *charts) Ask(m *view.Model) {
	if v.byDay {
		v.days.ask(m)
	}
	m.Samples.Ask(m)
	if !v.chosen && m.Samples.AreKnown() {
		v.chosen = true
		v.chooseWithData(m)
	}
}

// chooseWithData shows the first measure that has data, or the first one.
func (v *charts) chooseWithData(m *view.Model) {
	for v.measure = range timeline.Measures {
		if len(v.graphs(m)) > 0 {
			return
		}
	}
	v.measure = 0
}

func (v *charts) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseWheelMsg:
		v.top = max(v.top+view.Wheel(msg), 0)
	case tea.MouseClickMsg:
		overview.ClickTime(m, lanes.ColumnsOf(m), lanes.AxisOf(m), msg.X)
	case tea.MouseMotionMsg:
		if msg.Button == tea.MouseLeft {
			overview.ClickTime(m, lanes.ColumnsOf(m), lanes.AxisOf(m), msg.X)
		}
	}
}

// choose shows another measure.
func (v *charts) choose(measure int) { v.measure, v.top, v.chosen, v.byDay = measure, 0, true, false }

// chooseDays shows the chart over days or, if it is shown, its next measure.
func (v *charts) chooseDays() {
	if v.top, v.chosen = 0, true; v.byDay {
		v.days.measure = (v.days.measure + 1) % len(timeline.DayMeasures)
	}
	v.byDay = true
}

// graphs are the graphs to draw.
func (v *charts) graphs(m *view.Model) []timeline.Graph {
	all := timeline.ChartOf(timeline.Measures[v.measure], m.Snap, &m.Samples.Series, lanes.AxisOf(m), m.Now)
	all = slices.DeleteFunc(all, func(g timeline.Graph) bool {
		u := m.Snap.Unit(g.Name)
		return g.Most == 0 && !g.Single || u != nil && !lanes.Matches(m, u, m.Filter)
	})
	if v.alone && timeline.Measures[v.measure] != timeline.Rest {
		all = slices.DeleteFunc(all, func(g timeline.Graph) bool { return g.Name != m.Selected })
	}
	if v.largest {
		timeline.Largest(all)
	}
	return all
}

func (v *charts) Draw(m *view.Model, width, height int) []string {
	if v.byDay {
		return append([]string{v.tabs(m, width)}, v.days.draw(m, v, width, height-1)...)
	}
	c, a := lanes.ColumnsOf(m), lanes.AxisOf(m)
	measure := timeline.Measures[v.measure]
	rows := []string{v.tabs(m, width), lanes.SavesRow(m, c, a)}
	all := v.graphs(m)
	room := height - len(rows) - 1
	if len(all) == 0 {
		text := "  no data in this range"
		if v.alone {
			text = "  " + m.Selected + " has no data in this range; enter shows all units"
		}
		rows = view.Pad(append(rows, cells.Fit(m.Palette.Dim.Render(text), width)), height-1, width)
		return append(rows, lanes.TimeRule(m, c, a, "", width))
	}
	each := max(2, min(room/len(all), 12))
	fits := max(room/each, 1)
	v.top = max(0, min(v.top, len(all)-fits))
	for _, g := range all[v.top:min(v.top+fits, len(all))] {
		rows = append(rows, GraphRows(m, measure, g, each, width)...)
	}
	title := ""
	if len(all) > fits {
		title = fmt.Sprintf("%d to %d of %d", v.top+1, v.top+fits, len(all))
	}
	return append(view.Pad(rows, height-1, width), lanes.TimeRule(m, c, a, title, width))
}

// tabs names the measures, and describes the selected one if there is room.
func (v *charts) tabs(m *view.Model, width int) string {
	line := func(chosen func(timeline.Measure) string) string {
		var parts []string
		for i, measure := range timeline.Measures {
			if i == v.measure && !v.byDay {
				parts = append(parts, m.Palette.Bright.Render(fmt.Sprintf("▸%d %s", i+1, chosen(measure))))
			} else {
				parts = append(parts, m.Palette.Dim.Render(fmt.Sprintf(" %d %s", i+1, measure)))
			}
		}
		days := m.Palette.Dim.Render(" 6 days")
		if v.byDay {
			days = m.Palette.Bright.Render("▸6 days")
		}
		return " " + strings.Join(append(parts, days), "  ")
	}
	text := line(timeline.Measure.Words)
	if ansi.StringWidth(text) > width {
		text = line(func(measure timeline.Measure) string { return string(measure) })
	}
	return cells.Fit(text, width)
}

// GraphRows draws a graph in so many rows. From four rows on the last one is empty.
func GraphRows(m *view.Model, measure timeline.Measure, g timeline.Graph, height, width int) []string {
	c, a := lanes.ColumnsOf(m), lanes.AxisOf(m)
	drawn := height
	if height > 3 {
		drawn--
	}
	value, when := g.Last, "now "
	if !m.At.IsZero() {
		value, when = math.NaN(), "then "
		if i := a.At(m.At); a.Has(i) {
			value = g.Values[i]
		}
	}
	if g.Single && m.At.IsZero() {
		when = "last "
	}
	name, style := g.Name, m.UnitStyle(g.Name)
	if name == "" {
		name, style = "project", m.Palette.Text
	}
	mark := "  "
	if name == m.Selected {
		mark, style = m.Palette.Bright.Render("▸ "), style.Bold(true)
	}
	left := []string{
		mark + style.Render(name),
		"  " + m.Palette.Dim.Render(when) + measure.Text(value),
		"  " + m.Palette.Dim.Render("max "+measure.Text(g.Most)),
	}
	if drawn == 2 {
		left = []string{mark + style.Render(cells.Fit(name, max(c.Left()-14, 6))) + " " + measure.Text(value), left[2]}
	}
	rows := make([]string, height)
	for i := range rows {
		text := ""
		if i < len(left) {
			text = left[i]
		}
		rows[i] = cells.Fit(text, c.Left())
		if i < drawn {
			rows[i] += graphColumns(m, g, a, drawn-1-i, drawn, style)
		}
		rows[i] = cells.Fit(rows[i], width)
	}
	return rows
}

// graphColumns draws a row of a graph, counted from 0 at the bottom. Failed runs are hatched.
func graphColumns(m *view.Model, g timeline.Graph, a timeline.Axis, row, of int, style lipgloss.Style) string {
	s := cells.NewStrip(len(g.Values), " ", &m.Palette.Text)
	failed := m.Palette.Broken
	for i, v := range g.Values {
		level := timeline.Level(v, g.Full, of*8) - row*8
		switch {
		case level <= 0:
			if row == 0 && !math.IsNaN(v) {
				s.Set(i, "▁", &m.Palette.Faint)
			}
		case g.Failed != nil && g.Failed[i]:
			s.Set(i, "╱", &failed)
		default:
			s.Set(i, cells.Eighths[min(level, 8)], &style)
		}
	}
	if i := a.At(m.At); !m.At.IsZero() && a.Has(i) {
		at := m.Palette.Text.Reverse(true)
		s.Set(i, s.Glyphs[i], &at)
	}
	return s.String()
}

// Drawing implements view.Drawable.
func (v *charts) Drawing(m *view.Model) (string, func() (*draw.Page, error)) {
	snap, axis, now, measure := m.Snap, lanes.DrawnAxis(m), m.Now, timeline.Measures[v.measure]
	graphs := timeline.ChartOf(measure, snap, &m.Samples.Series, axis, now)
	return "charts", func() (*draw.Page, error) {
		return draw.Charts(snap, map[timeline.Measure][]timeline.Graph{measure: graphs}, axis, now)
	}
}

// Bindings are those of the view.
var Bindings = []view.Binding{
	{In: "charts", Keys: []string{"1"}, Name: string(timeline.Measures[0]), Group: view.GroupCharts, Do: measured(0)},
	{In: "charts", Keys: []string{"2"}, Name: string(timeline.Measures[1]), Group: view.GroupCharts, Do: measured(1)},
	{In: "charts", Keys: []string{"3"}, Name: string(timeline.Measures[2]), Group: view.GroupCharts, Do: measured(2)},
	{In: "charts", Keys: []string{"4"}, Name: timeline.Measures[3].Words(), Group: view.GroupCharts, Do: measured(3)},
	{In: "charts", Keys: []string{"5"}, Name: timeline.Measures[4].Words(), Group: view.GroupCharts, Do: measured(4)},
	{In: "charts", Keys: []string{"6"}, Name: "days: durations, then memory, over weeks and months",
		Group: view.GroupCharts, Do: view.On(func(_ *view.Model, v *charts) { v.chooseDays() })},
	{In: "charts", Keys: []string{"+", "="}, Name: "fewer days", Hint: "fewer days", Group: view.GroupCharts,
		When: showsDays, Unless: noDays,
		Do: view.On(func(_ *view.Model, v *charts) { v.days.zoom(-1) })},
	{In: "charts", Keys: []string{"-"}, Name: "more days", Hint: "more days", Group: view.GroupCharts, When: showsDays,
		Unless: noDays,
		Do:     view.On(func(_ *view.Model, v *charts) { v.days.zoom(1) })},
	{In: "charts", Keys: []string{"enter"}, Name: "show the selected unit, or all", Hint: "this unit",
		Group: view.GroupCharts, Do: view.On(func(_ *view.Model, v *charts) { v.alone = !v.alone })},
	{In: "charts", Keys: []string{"o"}, Name: "sort by size, or as in the file", Hint: "sort by size",
		Group: view.GroupCharts, Do: view.On(func(_ *view.Model, v *charts) { v.largest = !v.largest })},
	{In: "charts", Keys: []string{"pgdown"}, Name: "next units", Group: view.GroupCharts,
		Do: view.On(func(_ *view.Model, v *charts) { v.top += 3 })},
	{In: "charts", Keys: []string{"pgup"}, Name: "previous units", Group: view.GroupCharts,
		Do: view.On(func(_ *view.Model, v *charts) { v.top -= 3 })},
	{In: "charts", Keys: []string{"esc"}, Name: "back to now, or to the lanes", Hint: "back",
		Group: view.GroupCharts,
		Do: func(m *view.Model) {
			if m.At.IsZero() {
				m.BackToLanes()
			}
			overview.BackToNow(m)
		}},
	{In: "charts", Keys: []string{"q", "C"}, Name: "back to the lanes", Group: view.GroupCharts,
		Do: (*view.Model).BackToLanes},
}

// noDays is why the keys for days do nothing.
const noDays = "6 shows days"

// showsDays reports whether the chart over days is shown.
func showsDays(m *view.Model) bool {
	v, ok := m.Top().(*charts)
	return ok && v.byDay
}

// measured shows another measure.
func measured(measure int) func(*view.Model) {
	return view.On(func(_ *view.Model, v *charts) { v.choose(measure) })
}
