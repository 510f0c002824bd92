package overview

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/view"
)

// volume is a chart of one row: how many lines the stream's units have written over time, and of which level.
type volume struct {
	counts api.Counts
	of     volumeQuery // that counts answers
	asked  time.Time
	asking bool
}

// volumeQuery is what a chart is about.
type volumeQuery struct {
	units  string
	column time.Duration
	from   time.Time
	lines  int64 // in the log
	// session is that whose lines are counted.
	session string
}

const (
	// volumeHeight is the height of the screen from which the chart is shown.
	volumeHeight = 30
	// volumePause is the minimum time between two requests.
	volumePause = 150 * time.Millisecond
)

// volumeUnits are the units whose lines the stream shows; nil: all.
func volumeUnits(m *view.Model) []string {
	only, muted := Of(m).Streams[0].Filter.Units()
	if only == nil && muted == nil {
		return nil
	}
	if only == nil {
		only = m.Snap.UnitNames()
	}
	return slices.DeleteFunc(slices.Clone(only), func(name string) bool { return slices.Contains(muted, name) })
}

// ask requests the counts if there are new lines, other units, or another part of the axis.
func (v *volume) ask(m *view.Model) {
	if m.Height < volumeHeight || v.asking || m.Now.Sub(v.asked) < volumePause {
		return
	}
	units, a := volumeUnits(m), Of(m).Lanes.Axis(m)
	from, session := a.Start, m.Session()
	if began, _ := m.Bounds(); a.Skips != nil && from.Before(began) { // earlier sessions have other logs
		from = began
	}
	want := volumeQuery{strings.Join(units, ","), a.Column, from, m.Snap.Lines, session}
	behind := v.counts.Known < v.counts.Total
	has := v.of.units == want.units && v.of.column == want.column && v.of.lines == want.lines &&
		!want.from.Before(v.of.from) && v.of.session == session
	if has && !behind {
		return
	}
	v.asking, v.asked = true, m.Now
	m.Later(func(ctx context.Context) view.Then {
		log, err := m.Record(ctx, session)
		if err != nil {
			return func() { v.asking = false }
		}
		counts, err := log.Counts(ctx, api.CountQuery{
			Units: units, From: from.Truncate(step), Column: api.Seconds(columnOf(a)),
			Columns: int(min(a.Span()/columnOf(a)+2, api.MaxLines)),
		})
		return func() {
			if v.asking = false; err == nil { // otherwise the stream says why the log cannot be read
				v.counts, v.of = counts, want
			}
		}
	})
}

// step is the time of which the lengths of columns are multiples, so that all of them count the same.
const step = 250 * time.Millisecond

// columnOf is the length of the columns that are counted for an axis.
func columnOf(a timeline.Axis) time.Duration { return (a.Column + step - 1).Truncate(step) }

// row draws the chart on the axis of the lanes.
func (v *volume) row(m *view.Model) string {
	c, a := Of(m).Lanes.Columns(m), Of(m).Lanes.Axis(m)
	sums := make([]api.Count, a.N)
	most := 0
	column := columnOf(a)
	for _, one := range v.counts.Columns {
		for i := max(a.At(one.At), 0); i <= min(a.At(one.At.Add(column-1)), a.N-1); i++ {
			sums[i] = one
			most = max(most, one.Lines)
		}
	}
	s := cells.NewStrip(a.N, " ", &m.Palette.Text)
	for i, one := range sums {
		if one.Lines > 0 {
			glyph, style := volumeGlyph(m, one, most)
			s.Set(i, glyph, style)
		}
	}
	row := cells.Fit("  "+m.Palette.Dim.Render("lines"), c.Left()) + s.String()
	if most > 0 {
		row += m.Palette.Dim.Render(" max " + perSecond(most, column))
	}
	return cells.Fit(row, c.Width())
}

// volumeGlyph is the height of a column, or the mark of lines that state an error or a warning, as in the stream.
func volumeGlyph(m *view.Model, of api.Count, most int) (string, *lipgloss.Style) {
	switch {
	case of.Errors > 0:
		return "╱", &m.Palette.Broken
	case of.Warnings > 0:
		return "┄", &m.Palette.Stale
	}
	return cells.Eighths[max(timeline.Level(float64(of.Lines), float64(most), 8), 1)], &m.Palette.Dim
}

// perSecond is a rate in a few letters.
func perSecond(n int, in time.Duration) string {
	rate := float64(n) / in.Seconds()
	switch {
	case rate >= 10_000:
		return fmt.Sprintf("%.0fk/s", rate/1000)
	case rate >= 10:
		return fmt.Sprintf("%.0f/s", rate)
	}
	return fmt.Sprintf("%.1f/s", rate)
}
