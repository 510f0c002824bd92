// Package timeline turns a snapshot and a span of time into shapes: columns, ticks, lanes, bars, boxes, graphs. It
// knows meanings and positions, but no colors and characters, so that the screen and a page show the same. Start
// reading at Axis and LaneOf.
package timeline

import (
	"time"

	"omnivigil/internal/text/format"
)

// Spans are the spans of time that lanes can show.
var Spans = []time.Duration{
	15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 15 * time.Minute,
	time.Hour, 4 * time.Hour, 12 * time.Hour, 24 * time.Hour, 3 * 24 * time.Hour, 7 * 24 * time.Hour,
}

// FirstSpan is the initial span, a minute.
const FirstSpan = 2

// YoungSpan returns the span that shows all of a young project's life, enlarged compared with the first one, by its
// index in Spans.
func YoungSpan(age time.Duration) int {
	for i := range FirstSpan {
		if age < Spans[i] {
			return i
		}
	}
	return FirstSpan
}

// Axis maps columns to times. Its columns begin at multiples of their width, so that what was drawn moves left
// unchanged as time passes.
type Axis struct {
	Start  time.Time     // of the first column
	Column time.Duration // the width of each
	N      int           // how many there are
	Letter int           // how many of them a character takes; 0 is one
	Skips  *Skips        // what it leaves out; nil: nothing
}

// letters is how many columns a text of so many characters takes.
func (a Axis) letters(n int) int { return n * max(a.Letter, 1) }

// To returns the axis of n columns that ends with the column of end.
func To(end time.Time, span time.Duration, n int) Axis { return Skipping(nil, end, 0, span, n) }

// Skipping returns the axis of n columns that leaves out skips, and ends so long after a time.
func Skipping(skips *Skips, at time.Time, after, span time.Duration, n int) Axis {
	n = max(n, 1)
	width := max(span/time.Duration(n), time.Millisecond).Round(time.Millisecond)
	last := skips.compressed(at).Add(after).Truncate(width)
	start := skips.expanded(last.Add(-time.Duration(n-1) * width))
	return Axis{Start: start, Column: width, N: n, Skips: skips}
}

// At returns the column of a time; it may be outside of 0..N-1.
func (a Axis) At(t time.Time) int {
	d := a.Skips.compressed(t).Sub(a.Skips.compressed(a.Start))
	if d < 0 {
		return -1
	}
	return int(d / a.Column)
}

// Has reports whether a column is on the axis.
func (a Axis) Has(column int) bool { return column >= 0 && column < a.N }

// Time returns when a column begins.
func (a Axis) Time(column int) time.Time {
	return a.Skips.expanded(a.Skips.compressed(a.Start).Add(time.Duration(column) * a.Column))
}

// Span is the span of time of the axis, without what it leaves out.
func (a Axis) Span() time.Duration { return time.Duration(a.N) * a.Column }

// Elapsed returns round durations since the axis's start for labels, at least gap columns apart.
func (a Axis) Elapsed(gap int) []time.Duration {
	step := a.Column
	for _, s := range []time.Duration{
		10 * time.Millisecond, 20 * time.Millisecond, 50 * time.Millisecond, 100 * time.Millisecond,
		200 * time.Millisecond, 500 * time.Millisecond,
		time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute,
		5 * time.Minute,
		10 * time.Minute, 30 * time.Minute, time.Hour,
	} {
		if step = s; int(s/a.Column) >= gap {
			break
		}
	}
	var out []time.Duration
	for d := time.Duration(0); d < a.Span() && len(out) < a.N; d += step {
		out = append(out, d)
	}
	return out
}

// Ticks returns round times for labels, at least gap columns apart.
func (a Axis) Ticks(gap int) []time.Time {
	steps := []time.Duration{
		time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 15 * time.Second, 30 * time.Second,
		time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute,
		time.Hour, 2 * time.Hour, 4 * time.Hour, 12 * time.Hour, 24 * time.Hour, 48 * time.Hour,
	}
	step := steps[len(steps)-1]
	for _, s := range steps {
		if int(s/a.Column) >= gap {
			step = s
			break
		}
	}
	var out []time.Time
	begin := a.Start.Truncate(step)
	if step >= 12*time.Hour { // days begin by the clock
		begin = time.Date(a.Start.Year(), a.Start.Month(), a.Start.Day(), 0, 0, 0, 0, a.Start.Location())
	}
	for t, end := begin.Add(step), a.Time(a.N); t.Before(end); t = t.Add(step) {
		if skip, within := a.Skips.around(t); within {
			t = skip.To.Truncate(step)
			continue
		}
		out = append(out, t)
	}
	return out
}

// Label is a time as the axis writes it: the time of day, and for spans of days the date.
func (a Axis) Label(t time.Time) string {
	if a.Span() > 24*time.Hour {
		return t.Format("2 Jan 15:04")
	}
	return format.Clock(t)
}
