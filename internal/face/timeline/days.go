package timeline

import (
	"slices"
	"time"

	"omnivigil/internal/api/past"
)

// DaySpans are how many days charts over days can show.
var DaySpans = []int{14, 30, 60, 90, 180, 365}

// DayMeasures are the measures of charts over days.
var DayMeasures = []Measure{Durations, Memory}

// Boxes are the values of a unit on consecutive days.
type Boxes struct {
	Name  string
	Days  []DayBox
	Most  float64 // the greatest value
	Full  float64 // the value that fills the height: above all boxes, but not above every outlier
	Runs  int     // on all days
	Broke int     // of these, those that failed or crashed
}

// DayBox is the values of a day.
type DayBox struct {
	past.Five
	Runs, Broken int          // none: nothing ran
	Trends       []past.Trend // whose first run was on this day
}

// FirstDay is the first of so many days until now.
func FirstDay(now time.Time, days int) time.Time {
	return time.Date(now.Year(), now.Month(), now.Day()-days+1, 0, 0, 0, 0, now.Location())
}

// DayOf is the index of a time's day, counted from the first day.
func DayOf(first, at time.Time) int {
	at = at.In(first.Location())
	day := time.Date(at.Year(), at.Month(), at.Day(), 12, 0, 0, 0, first.Location()) // whatever the clocks were changed by
	return int(day.Sub(first) / (24 * time.Hour))
}

// BoxesOf returns the boxes of a measure, for the units in an order; units that it does not name come last. Units
// without a value are left out.
func BoxesOf(m Measure, all []past.Day, trends []past.Trend, units []string, first time.Time, days int) []Boxes {
	of := map[string]*Boxes{}
	names := slices.Clone(units)
	for _, d := range all {
		n := DayOf(first, d.Day)
		if n < 0 || n >= days {
			continue
		}
		b := of[d.Unit]
		if b == nil {
			b = &Boxes{Name: d.Unit, Days: make([]DayBox, days)}
			of[d.Unit] = b
			if !slices.Contains(names, d.Unit) {
				names = append(names, d.Unit)
			}
		}
		five := d.Took
		if m == Memory {
			five = d.Memory
		}
		b.Days[n].Five, b.Days[n].Runs, b.Days[n].Broken = five, d.Runs, d.Broken
		b.Runs, b.Broke, b.Most = b.Runs+d.Runs, b.Broke+d.Broken, max(b.Most, five[4])
		b.Full = max(b.Full, five[3]*1.25)
	}
	for _, t := range trends {
		n := DayOf(first, t.Since)
		if b := of[t.Unit]; b != nil && n >= 0 && n < days && t.Test == "" && !t.Dismissed && IsOf(t, m) {
			b.Days[n].Trends = append(b.Days[n].Trends, t)
		}
	}
	var out []Boxes
	for _, name := range names {
		if b := of[name]; b != nil && b.Most > 0 {
			out = append(out, *b)
		}
	}
	return out
}

// IsOf reports whether a trend is about a measure of charts.
func IsOf(t past.Trend, m Measure) bool {
	return m == Durations && t.Measure == "duration" || m == Memory && t.Measure == "memory"
}

// Span is where a box is drawn, in halves of a row from the bottom.
type Span struct {
	low, high   int // the box, both included
	least, most int // the whiskers
}

// Halves returns where a day's values are drawn in so many rows; nothing is drawn if they have no value.
func Halves(five past.Five, full float64, rows int) Span {
	if five.Most() <= 0 || full <= 0 {
		return Span{low: 1, least: 1}
	}
	half := func(v float64) int { return max(0, min(int(v/full*float64(2*rows)), 2*rows-1)) }
	return Span{half(five[1]), half(five[3]), half(five[0]), half(five[4])}
}

// Within reports whether a half is part of the box.
func (s Span) Within(half int) bool { return s.low <= half && half <= s.high }

// Beyond reports whether a row is part of the whiskers.
func (s Span) Beyond(row int) bool { return s.least <= 2*row+1 && 2*row <= s.most }
