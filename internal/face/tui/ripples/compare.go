package ripples

import (
	"fmt"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// compared shows where the time went, compared with an earlier ripple of the same files.
func (v *ripples) compared(m *view.Model, r *api.Ripple, width int) []string {
	e := timeline.Earlier(m.Live.Ripples, r)
	switch {
	case !r.Resting():
		return []string{
			cells.Fit(m.Palette.Dim.Render("  still running: it can be compared when it is at rest"), width),
		}
	case e == nil:
		text := "  there is no earlier ripple of the same files that is still known"
		return []string{cells.Fit(m.Palette.Dim.Render(text), width)}
	}
	was, is := e.RestAt.Sub(e.Since), r.RestAt.Sub(r.Since)
	rows := []string{
		cells.Fit(fmt.Sprintf("  compared with ripple %d of %s: %s then, %s now, %s", e.ID,
			format.Moment(e.Since, m.Now), format.Duration(was), format.Duration(is), slower(is-was)), width),
		cells.Fit("", width),
	}
	all := timeline.Compare(e, r)
	if len(all) == 0 {
		return append(rows, cells.Fit(m.Palette.Dim.Render("  no difference"), width))
	}
	most := all[0].By().Abs()
	rows = append(
		rows,
		cells.Fit(m.Palette.Dim.Render(fmt.Sprintf("  %-16s %-10s %9s %9s  ", "unit", "part", "then", "now")), width),
	)
	for _, d := range all {
		style := m.Palette.Current
		if d.By() > 0 {
			style = m.Palette.Stale
		}
		const bar = 24
		name := m.UnitStyle(d.Unit).Render(cells.Fit(d.Unit, 16))
		times := fmt.Sprintf(" %-10s %9s %9s  ", d.Phase, format.Duration(d.Before), format.Duration(d.Now))
		length := timeline.Level(d.By().Abs().Seconds(), most.Seconds(), bar)
		by := style.Render(strings.Repeat("█", length) + " " + slower(d.By()))
		rows = append(rows, cells.Fit("  "+name+times+by, width))
	}
	return rows
}

// slower is the difference of two durations, in words.
func slower(by time.Duration) string {
	switch {
	case by.Abs() < 10*time.Millisecond:
		return "the same"
	case by < 0:
		return format.Duration(-by) + " faster"
	}
	return format.Duration(by) + " slower"
}
