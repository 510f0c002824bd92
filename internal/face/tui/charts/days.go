package charts

import (
	"context"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"omnivigil/internal/api/past"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// days is the chart over days, with the history that it shows.
type days struct {
	span    int // index into timeline.DaySpans
	measure int // index into timeline.DayMeasures
	history past.History
	trends  []past.Trend
	asking  bool
	asked   time.Time
	of      int    // the span that was fetched
	problem string // why there is no history
}

// daysPause is how often the history is fetched again.
const daysPause = 10 * time.Second

// ask fetches the history of the days that are shown.
func (d *days) ask(m *view.Model) {
	if d.asking || !d.asked.IsZero() && d.of == d.span && m.Now.Sub(d.asked) < daysPause {
		return
	}
	d.asking, d.asked, d.of = true, m.Now, d.span
	since := timeline.FirstDay(m.Now, timeline.DaySpans[d.span])
	m.Later(func(ctx context.Context) view.Then {
		h, err := m.Project.History(ctx, past.Query{What: past.Days, Since: since})
		var trends past.History
		if err == nil {
			trends, err = m.Project.History(ctx, past.Query{What: past.Trends, Since: since})
		}
		return func() {
			d.asking, d.problem = false, ""
			if err != nil {
				d.problem = err.Error()
				return
			}
			d.history, d.trends = h, trends.Trends
		}
	})
}

// zoom shows more or fewer days.
func (d *days) zoom(by int) { d.span = max(0, min(d.span+by, len(timeline.DaySpans)-1)) }

// leftOf is the width of the names.
const leftOf = 24

// draw draws a graph for each unit, the trends, and the axis.
func (d *days) draw(m *view.Model, v *charts, width, height int) []string {
	measure := timeline.DayMeasures[d.measure]
	count := min(timeline.DaySpans[d.span], width-leftOf-1)
	first := timeline.FirstDay(m.Now, count)
	all := timeline.BoxesOf(measure, d.history.Days, d.trends, m.Snap.UnitNames(), first, count)
	all = slices.DeleteFunc(all, func(b timeline.Boxes) bool {
		u := m.Snap.Unit(b.Name)
		return v.alone && b.Name != m.Selected || u != nil && !lanes.Matches(m, u, m.Filter)
	})
	if v.largest {
		slices.SortStableFunc(all, func(a, b timeline.Boxes) int {
			return map[bool]int{true: -1, false: 1}[a.Most > b.Most]
		})
	}
	title := fmt.Sprintf(
		"%s over %d days: boxes from quartile to quartile, ╱ days with failures, ▾ since then",
		measure,
		count,
	)
	if len(all) == 0 {
		text := "  no data in these days"
		if d.problem != "" {
			text = "  " + d.problem
		}
		return view.Pad([]string{m.TitledRule(title, width), cells.Fit(m.Palette.Dim.Render(text), width)}, height, width)
	}
	told := d.told(m, measure, first, width)
	told = told[:min(len(told), max(height/5, 1))]
	room := height - 2 - len(told)
	each := max(4, min(room/len(all), 16))
	fits := max(room/each, 1)
	v.top = max(0, min(v.top, len(all)-fits))
	if len(all) > fits {
		title += fmt.Sprintf(", %d to %d of %d", v.top+1, v.top+fits, len(all))
	}
	rows := []string{m.TitledRule(title, width)}
	for _, b := range all[v.top:min(v.top+fits, len(all))] {
		rows = append(rows, boxRows(m, measure, b, each, width)...)
	}
	rows = append(view.Pad(rows, height-1-len(told), width), dayAxis(m, first, count, width))
	return append(rows, told...)
}

// dayWidth is how many columns a day has.
func dayWidth(count, width int) int { return max(1, min((width-leftOf-1)/count, 6)) }

// boxRows draws the days of a unit in so many rows: boxes, with a line at the median, and the least and the greatest
// value. Days with failures are hatched at the bottom, and the first day after a shift is marked at the top.
func boxRows(m *view.Model, measure timeline.Measure, b timeline.Boxes, height, width int) []string {
	style := m.UnitStyle(b.Name)
	name := "  " + style.Render(b.Name)
	if b.Name == m.Selected {
		name = m.Palette.Bright.Render("▸ ") + style.Bold(true).Render(b.Name)
	}
	last := math.NaN()
	for _, day := range b.Days {
		if day.Five[2] > 0 {
			last = day.Five[2]
		}
	}
	left := []string{
		name,
		"  " + m.Palette.Dim.Render("median ") + measure.Text(last),
		"  " + m.Palette.Dim.Render("max "+measure.Text(b.Most)),
		"  " + m.Palette.Dim.Render(fmt.Sprintf("%d of %d failed", b.Broke, b.Runs)),
	}
	rows := make([]string, height)
	for i := range rows {
		text := ""
		if i < len(left) && (i < 3 || b.Broke > 0) {
			text = left[i]
		}
		strip := dayMarks(m, b, width)
		if i > 0 {
			strip = dayRow(m, b, height-1-i, height-1, max(b.Full, measure.Least()), width, &style)
		}
		rows[i] = cells.Fit(cells.Fit(text, leftOf)+strip, width)
	}
	return rows
}

// dayMarks marks the days on which a shift began.
func dayMarks(m *view.Model, b timeline.Boxes, width int) string {
	each := dayWidth(len(b.Days), width)
	s := cells.NewStrip(len(b.Days)*each, " ", &m.Palette.Text)
	for n, day := range b.Days {
		if len(day.Trends) > 0 {
			s.Set(n*each+(each-1)/2, "▾", &m.Palette.Stale)
		}
	}
	return s.String()
}

// dayRow draws a row of all days, counted from 0 at the bottom. Boxes are drawn to half a row.
func dayRow(m *view.Model, b timeline.Boxes, row, of int, full float64, width int, style *lipgloss.Style) string {
	each := dayWidth(len(b.Days), width)
	body := max(each-1, 1) // a gap follows it, if there is room
	s := cells.NewStrip(len(b.Days)*each, " ", &m.Palette.Text)
	for n, day := range b.Days {
		halves := timeline.Halves(day.Five, full, of)
		glyph, look, from, to := "", style, 0, body
		switch {
		case day.Runs == 0:
		case row == 0 && day.Broken > 0:
			glyph, look = "╱", &m.Palette.Broken
		case halves.Within(2*row) && halves.Within(2*row+1):
			glyph = "█"
		case halves.Within(2 * row):
			glyph = "▄"
		case halves.Within(2*row + 1):
			glyph = "▀"
		case halves.Beyond(row) && body > 1:
			glyph, look, from, to = "╎", &m.Palette.Dim, (body-1)/2, (body-1)/2+1
		case row == 0:
			glyph, look = "▁", &m.Palette.Faint
		}
		for c := from; c < to && glyph != ""; c++ {
			s.Set(n*each+c, glyph, look)
		}
	}
	return s.String()
}

// dayAxis names the Mondays.
func dayAxis(m *view.Model, first time.Time, count, width int) string {
	each := dayWidth(count, width)
	s := cells.NewStrip(count*each, "─", &m.Palette.Faint)
	free := 0
	for n := range count {
		day := first.AddDate(0, 0, n)
		text := day.Format("2 Jan")
		if day.Weekday() != time.Monday || n*each < free || n*each+len(text)+1 > count*each {
			continue
		}
		s.Set(n*each, "┴", &m.Palette.Faint)
		for i, c := range text {
			s.Set(n*each+1+i, string(c), &m.Palette.Dim)
		}
		free = n*each + len(text) + 3
	}
	return cells.Fit(m.Palette.Faint.Render(strings.Repeat("─", leftOf))+s.String(), width)
}

// told are the trends of the selected unit, or of all, newest first.
func (d *days) told(m *view.Model, measure timeline.Measure, first time.Time, width int) (rows []string) {
	for _, t := range d.trends {
		if t.Dismissed || t.Test != "" || t.Since.Before(first) || !timeline.IsOf(t, measure) {
			continue
		}
		between := ""
		if len(t.Files) > 0 {
			between = "; saved before: " + format.ListOf(t.Files, len(t.Files)+t.MoreFiles)
		}
		rows = append(
			rows,
			cells.Fit("  "+m.Palette.Stale.Render("▾ ")+m.Palette.Dim.Render(format.Moment(t.Since, m.Now)+"  ")+
				m.UnitStyle(t.Unit).Render(t.Unit)+" "+m.Palette.Text.Render(t.Text)+m.Palette.Dim.Render(between), width),
		)
	}
	return rows
}
