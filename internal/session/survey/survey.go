// Package survey finds what the engine has to know of the machine: which starting units are busy, and how many
// processors other programs use.
package survey

import (
	"math"
	"runtime"
	"slices"
	"time"

	"omnivigil/internal/engine"
)

// Survey looks at the machine from time to time. It is not safe for concurrent use.
type Survey struct {
	// Load returns the load average, and how many threads of other programs could run, if that is counted; false: it is
	// unknown.
	Load func(counted bool) (average float64, others int, known bool)

	told   int       // the processors of other programs that the engine knows of
	recent []float64 // threads of other programs that could run, of the last surveys
}

const (
	// isBusy is the share from which the processes of a unit count as busy, of what one of them can get of a core.
	isBusy = 0.1
	// remembered is how many surveys are averaged: about ten seconds.
	remembered = 5
	// clearly is how far the average must fall below what was told.
	clearly = 0.25
)

// Look looks at the machine and at units; cpu is the share of a core that the processes of a unit use. It reports
// whether the engine has to know the result.
func (v *Survey) Look(units []*engine.Unit, cpu func(unit string) float64) (ev engine.Surveyed, matters bool) {
	works := slices.ContainsFunc(units, func(u *engine.Unit) bool { return u.Moving && u.Kind.Ends() })
	load, others, known := v.Load(works)
	if !known {
		return ev, false
	}
	for _, u := range units {
		if u.State == engine.Starting && cpu(u.Name) >= isBusy*fairShare(load) {
			ev.Busy = append(ev.Busy, u.Name)
		}
	}
	if ev.Load = load; works {
		ev.Foreign = v.processors(others)
	} else {
		v.recent = nil // when work begins, all jobs are free until more is known
	}
	matters = ev.Foreign != v.told || len(ev.Busy) > 0
	v.told = ev.Foreign
	return ev, matters
}

// fairShare is what a process that can run gets of a core under a load.
func fairShare(load float64) float64 { return min(1, float64(runtime.NumCPU())/load) }

// processors is how many whole processors other programs use, on the average of the last surveys. A first survey alone
// says little.
func (v *Survey) processors(others int) int {
	v.recent = append(v.recent, float64(others))
	v.recent = v.recent[max(len(v.recent)-remembered, 0):]
	if len(v.recent) < remembered {
		return v.told
	}
	sum := 0.0
	for _, n := range v.recent {
		sum += n
	}
	average := sum / float64(len(v.recent))
	if average >= float64(v.told+1) || average < float64(v.told)-clearly {
		return int(math.Floor(average))
	}
	return v.told
}

// youth is how long a run is young: a service has opened its ports by then, as a rule.
const youth = 30 * time.Second

// HasYoung reports whether one of the units has a young run; at is the time of a moment.
func HasYoung(units []*engine.Unit, now time.Time, at func(engine.Moment) time.Time) bool {
	return slices.ContainsFunc(units, func(u *engine.Unit) bool {
		return u.Run.Number > 0 && u.Run.EndedAt.IsZero() && now.Sub(at(u.Run.OrderedAt)) < youth
	})
}
