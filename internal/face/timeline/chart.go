package timeline

import (
	"cmp"
	"math"
	"slices"
	"sort"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/text/format"
)

// Measure is what a chart shows over time.
type Measure string

// The measures.
const (
	CPU       Measure = "cpu"
	Memory    Measure = "memory"
	Output    Measure = "output"
	Durations Measure = "durations"
	Rest      Measure = "rest"
)

// Measures are all measures, in the order of the keys.
var Measures = []Measure{CPU, Memory, Output, Durations, Rest}

// Words describes a measure.
func (m Measure) Words() string {
	return map[Measure]string{
		CPU: "cpu, of one core", Memory: "memory", Output: "output, a second",
		Durations: "durations of runs and passes",
		Rest:      "from a save to rest",
	}[m]
}

// Least is the smallest value that may fill the height of a graph: less is no amount that anyone looks for.
func (m Measure) Least() float64 {
	return map[Measure]float64{CPU: 0.1, Memory: 16 << 20, Output: 1 << 10, Durations: 0.05, Rest: 0.05}[m]
}

// Text is a value with its unit.
func (m Measure) Text(v float64) string {
	switch {
	case math.IsNaN(v):
		return ""
	case m == CPU:
		return format.Percent(v)
	case m == Memory:
		return format.Bytes(v)
	case m == Output:
		return format.Bytes(v) + "/s"
	}
	return format.Duration(time.Duration(v * float64(time.Second)))
}

// Graph is one unit's values over an axis.
type Graph struct {
	Name   string    // the unit's; empty: the project
	Values []float64 // one for each column; NaN: none
	Failed []bool    // whether the run with that duration failed
	Most   float64   // the largest of them
	Full   float64   // the value that fills the height: the largest, but no less than the measure's least
	Last   float64   // the newest; NaN: none
	Single bool      // its values are events, which most columns do not have
}

// Series are the samples of a session, by unit, in order of time. The zero value is empty.
type Series struct{ of map[string][]api.Sample }

// maxSamples limits the samples of a unit; beyond it every second sample of the older half is dropped.
const maxSamples = 40_000

// Add adds newer samples.
func (s *Series) Add(all []api.Sample) {
	if s.of == nil {
		s.of = map[string][]api.Sample{}
	}
	for _, one := range all {
		of := append(s.of[one.Unit], one)
		if len(of) > maxSamples {
			of = thinned(of)
		}
		s.of[one.Unit] = of
	}
}

func thinned(all []api.Sample) []api.Sample {
	half := len(all) / 2
	kept := all[:0]
	for i, s := range all {
		if i >= half || i%2 == 0 {
			kept = append(kept, s)
		}
	}
	return kept
}

// ChartOf returns the graphs of a measure for the units with values, in the order of the project.
func ChartOf(m Measure, snap *api.Snapshot, s *Series, a Axis, now time.Time) []Graph {
	var all []Graph
	add := func(g Graph) {
		g.Last = math.NaN()
		for _, v := range g.Values {
			if !math.IsNaN(v) {
				g.Last, g.Most = v, max(g.Most, v)
			}
		}
		g.Full = max(g.Most, m.Least())
		if !math.IsNaN(g.Last) {
			all = append(all, g)
		}
	}
	switch m {
	case Rest:
		add(rests(snap, a))
	case Durations:
		for _, u := range snap.Units {
			add(durations(snap, u.Name, a))
		}
	default:
		for _, u := range snap.Units {
			add(Graph{Name: u.Name, Values: sampled(m, s.of[u.Name], a, now)})
		}
	}
	return all
}

// Largest sorts graphs by their largest value.
func Largest(all []Graph) {
	slices.SortStableFunc(all, func(a, b Graph) int { return cmp.Compare(b.Most, a.Most) })
}

func nothing(n int) []float64 {
	values := make([]float64, n)
	for i := range values {
		values[i] = math.NaN()
	}
	return values
}

// sampled are the values of samples, each of which is valid until the next one: the largest in each column, or, for
// output, the amount in it.
func sampled(m Measure, all []api.Sample, a Axis, now time.Time) []float64 {
	values := nothing(a.N)
	if len(all) == 0 {
		return values
	}
	i := max(sort.Search(len(all), func(i int) bool { return all[i].At.After(a.Start) })-1, 0)
	for column := range values {
		from, to := a.Time(column), a.Time(column+1)
		if !to.After(all[0].At) || from.After(now) {
			continue
		}
		first := i
		for i+1 < len(all) && all[i+1].At.Before(to) {
			i++
		}
		if m == Output {
			values[column] = float64(all[i].Output-all[first].Output) / a.Column.Seconds()
			continue
		}
		values[column] = 0
		for _, s := range all[first : i+1] {
			v := float64(s.Memory)
			if m == CPU {
				v = s.CPU
			}
			values[column] = max(values[column], v)
		}
	}
	return values
}

// durations are the durations of a unit's runs and passes, at their end.
func durations(snap *api.Snapshot, unit string, a Axis) Graph {
	g := Graph{Name: unit, Values: nothing(a.N), Failed: make([]bool, a.N), Single: true}
	type which struct{ number, pass int }
	seen := map[which]bool{}
	for _, r := range snap.Ripples {
		for _, ref := range r.Runs {
			if ref.Unit != unit || ref.Took == 0 || seen[which{ref.Number, ref.Pass}] {
				continue
			}
			seen[which{ref.Number, ref.Pass}] = true
			b := barOf(ref, r.RestAt, false)
			at := b.To
			if at.IsZero() {
				at = r.RestAt
			}
			g.put(a, at, ref.Took.Duration().Seconds(), ref.Failed)
		}
	}
	return g
}

// rests are the times from each save until everything was at rest.
func rests(snap *api.Snapshot, a Axis) Graph {
	g := Graph{Values: nothing(a.N), Failed: make([]bool, a.N), Single: true}
	for _, r := range snap.Ripples {
		if r.Resting() && r.Cause.Kind == "change" {
			g.put(a, r.Since, r.RestAt.Sub(r.Since).Seconds(), r.Outcome != api.EndedCurrent)
		}
	}
	return g
}

// put enters a value at a time; the largest value of a column is shown.
func (g *Graph) put(a Axis, at time.Time, v float64, failed bool) {
	if i := a.At(at); a.Has(i) {
		if math.IsNaN(g.Values[i]) || v > g.Values[i] {
			g.Values[i] = v
		}
		g.Failed[i] = g.Failed[i] || failed
	}
}

// Level is the height of a value on a scale from 0 to most, in steps: at least one, unless it is zero.
func Level(v, most float64, steps int) int {
	if math.IsNaN(v) || v <= 0 || most <= 0 {
		return 0
	}
	return max(1, min(int(math.Round(v/most*float64(steps))), steps))
}

// Past is an ended run or pass of a unit.
type Past struct {
	*api.RunRef
	Ripple  int
	Because string
	At      time.Time // its start
}

// Runs returns the last runs and passes of a unit, at most so many, oldest first.
func Runs(snap *api.Snapshot, unit string, most int) []Past {
	var all []Past
	for i := len(snap.Ripples) - 1; i >= 0 && len(all) < 4*most; i-- {
		r := snap.Ripples[i]
		for j := len(r.Runs) - 1; j >= 0; j-- {
			ref := r.Runs[j]
			known := func(p Past) bool { return p.Number == ref.Number && p.Pass == ref.Pass }
			if ref.Unit != unit || slices.ContainsFunc(all, known) {
				continue
			}
			p := Past{RunRef: ref, Ripple: r.ID, Because: ref.Because, At: r.Since}
			if p.Because == "" {
				p.Because = r.Title
			}
			if len(ref.Spans) > 0 {
				p.At = ref.Spans[0].From
			}
			all = append(all, p)
		}
	}
	slices.SortFunc(
		all,
		func(a, b Past) int { return cmp.Or(cmp.Compare(a.Number, b.Number), cmp.Compare(a.Pass, b.Pass)) },
	)
	return all[max(len(all)-most, 0):]
}
