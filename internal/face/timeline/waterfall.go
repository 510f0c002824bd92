package timeline

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/text/format"
)

// What a unit does before its run, in addition to its states.
const (
	Debounce api.State = "debounce" // waiting for files to be quiet
	Queued   api.State = "queued"   // waiting for a job
)

// Waterfall is a ripple on one axis: a bar for each run and pass, in the order of causes.
type Waterfall struct {
	Ripple *api.Ripple
	Axis   Axis
	Bars   []Bar
}

// Bar is a run, or a pass, in a ripple.
type Bar struct {
	*api.RunRef
	Spans  []api.Span // each with its end; now, if it continues
	From   time.Time  // zero: the spans are no longer kept
	To     time.Time
	Open   bool   // it continues
	Cells  []Cell // one for each column
	Waited []Wait // what it waited for, each once
}

// Wait is what a run waited for, and how long.
type Wait struct {
	On  string // a unit; empty: a job
	For time.Duration
}

// Took is the duration of the bar.
func (b *Bar) Took() time.Duration { return b.To.Sub(b.From) }

// Reason tells why the run was ordered and what it waited for.
func (b *Bar) Reason() string {
	why := "because " + b.Because
	switch {
	case b.Pass > 0:
		why = "picks up changes by itself"
	case b.Because == "":
		why = ""
	}
	parts := []string{}
	if why != "" {
		parts = append(parts, why)
	}
	for _, w := range b.Waited {
		parts = append(parts, fmt.Sprintf("waited %s for %s", format.Duration(w.For), cmp.Or(w.On, "a job")))
	}
	return strings.Join(parts, ", ")
}

// shortest is the minimum span of a ripple's axis.
const shortest = 100 * time.Millisecond

// WaterfallOf returns a ripple, which may continue, in so many columns.
func WaterfallOf(r *api.Ripple, now time.Time, columns int) Waterfall {
	end := r.RestAt
	if !r.Resting() || end.IsZero() {
		end = now
	}
	columns = max(columns, 1)
	w := Waterfall{Ripple: r}
	for _, ref := range r.Runs {
		b := barOf(ref, now, !r.Resting())
		if b.To.After(end) {
			end = b.To
		}
		w.Bars = append(w.Bars, b)
	}
	// The last column contains the end, which may be on its edge.
	width := max(end.Sub(r.Since), shortest)/time.Duration(columns) + 1
	w.Axis = Axis{Start: r.Since, Column: width, N: columns}
	for i := range w.Bars {
		w.Bars[i].fill(w.Axis)
	}
	return w
}

func barOf(ref *api.RunRef, now time.Time, open bool) Bar {
	b := Bar{RunRef: ref}
	for i, s := range ref.Spans {
		if s.To.IsZero() {
			switch {
			case i+1 < len(ref.Spans):
				s.To = ref.Spans[i+1].From
			case open:
				s.To, b.Open = now, true
			default:
				s.To = s.From
			}
		}
		if s.To.Before(s.From) {
			s.To = s.From
		}
		if b.From.IsZero() || s.From.Before(b.From) {
			b.From = s.From
		}
		if s.To.After(b.To) {
			b.To = s.To
		}
		b.Spans = append(b.Spans, s)
		b.wait(s)
	}
	return b
}

// wait adds what a span waited for.
func (b *Bar) wait(s api.Span) {
	if s.Phase != string(api.Waiting) && s.Phase != string(Queued) {
		return
	}
	d := s.To.Sub(s.From)
	if d < 10*time.Millisecond {
		return
	}
	for i := range b.Waited {
		if b.Waited[i].On == s.On {
			b.Waited[i].For += d
			return
		}
	}
	b.Waited = append(b.Waited, Wait{s.On, d})
}

// fill draws the bar. Of several states in a column, the one with the highest priority is drawn.
func (b *Bar) fill(a Axis) {
	b.Cells = make([]Cell, a.N)
	for i := range b.Cells {
		b.Cells[i].State = api.Idle
	}
	last := -1
	for _, s := range b.Spans {
		state := api.State(s.Phase)
		for i := max(a.At(s.From), 0); i < a.N && !a.Time(i).After(s.To); i++ {
			if c := &b.Cells[i]; weight[state] >= weight[c.State] {
				c.State = state
			}
			last = max(last, i)
		}
	}
	if b.Failed && last >= 0 {
		b.Cells[last].State = api.Failed
	}
}

// Difference is the durations of a unit's phase in two ripples.
type Difference struct {
	Unit, Phase string
	Before, Now time.Duration
}

// By is how much longer it took.
func (d Difference) By() time.Duration { return d.Now - d.Before }

// Compare returns where the time of a ripple went, compared with an earlier one: the largest differences first.
// Differences below a hundredth of a second are left out.
func Compare(before, now *api.Ripple) []Difference {
	type part struct{ unit, phase string }
	was, is := map[part]time.Duration{}, map[part]time.Duration{}
	var parts []part
	sum := func(r *api.Ripple, into map[part]time.Duration) {
		for _, ref := range r.Runs {
			for _, s := range barOf(ref, r.RestAt, false).Spans {
				p := part{ref.Unit, s.Phase}
				into[p] += s.To.Sub(s.From)
				if !slices.Contains(parts, p) {
					parts = append(parts, p)
				}
			}
		}
	}
	sum(before, was)
	sum(now, is)
	var all []Difference
	for _, p := range parts {
		if d := (Difference{p.unit, p.phase, was[p], is[p]}); d.By().Abs() >= 10*time.Millisecond {
			all = append(all, d)
		}
	}
	slices.SortStableFunc(all, func(a, b Difference) int { return cmp.Compare(b.By().Abs(), a.By().Abs()) })
	return all
}

// Earlier returns the newest earlier ripple at rest with the same cause and files; nil: there is none.
func Earlier(all []*api.Ripple, r *api.Ripple) *api.Ripple {
	for i := len(all) - 1; i >= 0; i-- {
		e := all[i]
		if e.ID < r.ID && e.Resting() && e.Cause == r.Cause && e.Files == r.Files &&
			slices.Equal(slices.Sorted(slices.Values(e.Paths)), slices.Sorted(slices.Values(r.Paths))) {
			return e
		}
	}
	return nil
}
