package results

import (
	"context"
	"fmt"
	"strings"
	"time"

	"omnivigil/internal/api/past"
	"omnivigil/internal/face/lookback"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/view"
)

// testDays is what the history has of a test.
type testDays struct {
	of   testKey
	sum  past.Test // of all runs that are kept; without runs: nothing is known
	days []past.Day
}

// shownDays is how many days are shown.
const shownDays = 60

// ask fetches the history of a test, if it is another one than before. Without a history nothing is shown.
func (d *testDays) ask(m *view.Model, of testKey) {
	if d.of == of {
		return
	}
	*d = testDays{of: of}
	since := timeline.FirstDay(m.Now, shownDays)
	q := past.Query{Units: []string{of.unit}, Test: past.Test{Suite: of.suite, Name: of.name}, Since: since}
	m.Later(func(ctx context.Context) view.Then {
		byDay, sum := q, q
		byDay.What, sum.What = past.Days, past.Tests
		days, err := m.Project.History(ctx, byDay)
		if err != nil {
			return nil
		}
		all, err := m.Project.History(ctx, sum)
		if err != nil || len(all.Tests) == 0 {
			return nil
		}
		return func() {
			if d.of == of {
				d.sum, d.days = all.Tests[0], days.Days
			}
		}
	})
}

// rows are the rate of failure, and a strip of days, the newest at the right, in the textures of the lanes.
func (d *testDays) rows(m *view.Model, width int) []string {
	if d.sum.Runs == 0 {
		return nil
	}
	text := fmt.Sprintf("over %d days: %s", shownDays, lookback.Failures(d.sum, ""))
	return []string{"  " + m.Palette.Dim.Render(text), "  " + d.strip(m, min(shownDays, width-4))}
}

// strip has a character for each day.
func (d *testDays) strip(m *view.Model, count int) string {
	first := timeline.FirstDay(m.Now, count)
	of := map[int]past.Day{}
	for _, day := range d.days {
		of[timeline.DayOf(first, day.Day)] = day
	}
	var b strings.Builder
	for n := range count {
		day := of[n]
		switch {
		case day.Broken > 0 && day.Flaky > 0:
			b.WriteString(m.Palette.Stale.Render("┄"))
		case day.Broken > 0:
			b.WriteString(m.Palette.Broken.Render("╱"))
		case day.Runs > 0:
			b.WriteString(m.Palette.Current.Render("─"))
		case first.AddDate(0, 0, n).Weekday() == time.Monday:
			b.WriteString(m.Palette.Faint.Render("╷"))
		default:
			b.WriteString(m.Palette.Faint.Render("·"))
		}
	}
	return b.String()
}
