// Package waited describes how a project stands after waiting for it: whether all is well, and what is not.
package waited

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/reader"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/snapshot"
	"omnivigil/internal/text/format"
)

// Result describes the result of waiting.
type Result struct {
	Clean snapshot.Converter
	Log   func() (*logbook.View, error)
}

// Of is the result of waiting for units, or for all if there are none, which took so long.
func (r Result) Of(snap *engine.Snapshot, units []string, took time.Duration, timedOut bool) api.Waited {
	out := api.Waited{TimedOut: timedOut, Took: api.Seconds(took)}
	out.Verdict = api.Verdict{Word: snapshot.VerdictWord(snap), Text: r.Clean(explain.Verdict(snap))}
	var broken, stale []api.WaitedUnit
	var passed []string
	for _, u := range snap.Units {
		among := slices.Contains(units, u.Name)
		if len(units) > 0 && !among || u.Freshness == engine.Current ||
			len(units) == 0 && !u.Wanted && !u.State.Broken() {
			continue
		}
		if among && u.State == engine.Done && u.Stale != nil && u.Stale.OnlyNarrowed {
			passed = append(passed, fmt.Sprintf("%s passed, narrowed to %s", u.Name, r.Clean(u.Narrowed)))
			continue
		}
		one := r.unit(u)
		if u.State.Broken() {
			broken = append(broken, one)
		} else {
			stale = append(stale, one)
		}
	}
	out.Trouble = slices.Concat(broken, stale)
	for _, d := range r.Clean.Doubts(snap.Doubts) {
		if len(units) == 0 || slices.Contains(units, d.Unit) {
			out.Doubts = append(out.Doubts, d)
		}
	}
	out.OK = !timedOut && len(out.Trouble) == 0 && (len(units) > 0 || snap.Verdict.Word == engine.VerdictCurrent)
	if len(units) > 0 {
		out.Verdict = ofUnits(out, units, passed)
	}
	return out
}

// ofUnits is the verdict about some units.
func ofUnits(w api.Waited, units, passed []string) api.Verdict {
	for _, u := range w.Trouble {
		switch text := fmt.Sprintf("%d of %d: %s", len(w.Trouble), len(units), u.Unit); {
		case u.State.Broken():
			return api.Verdict{Word: api.VerdictBroken, Text: text + " " + string(u.State)}
		case u.Freshness == api.Updating:
			return api.Verdict{Word: api.VerdictUpdating, Text: text + " " + string(u.State)}
		default:
			return api.Verdict{Word: api.VerdictStale, Text: text + " is not current"}
		}
	}
	return api.Verdict{Word: api.VerdictCurrent, Text: cmp.Or(strings.Join(passed, "; "), allCurrent(units))}
}

func allCurrent(units []string) string {
	if len(units) == 1 {
		return units[0] + " runs the code saved"
	}
	return format.List(units) + " run the code saved"
}

// lastWords is how long before a service's end its output may tell the reason.
const lastWords = 10 * time.Second

func (r Result) unit(u *engine.Unit) api.WaitedUnit {
	one := api.WaitedUnit{
		Unit:      u.Name,
		State:     api.State(u.State.String()),
		Freshness: api.Freshness(u.Freshness.String()),
		Run:       u.Run.Number,
		Why:       r.Clean(explain.Why(u)),
	}
	if !u.State.Broken() {
		return one
	}
	if u.Pass.Number > 0 && !u.Pass.Good && u.Pass.Saw != "" { // earlier output is from passes that are over
		one.Why = r.Clean(u.Pass.Saw)
		return one
	}
	if one.Why = r.Clean(explain.Failed(u)); u.Failure.Report != nil {
		return one // that says it
	}
	v, err := r.Log()
	if err != nil {
		return one
	}
	// A service may have written much earlier, about problems that are long solved.
	says, ok := v.Reason(u.Name, u.Run.Number)
	if ok && (u.Kind != plan.Service || u.Run.EndedAt.Wall.Sub(says.At) < lastWords) {
		l := reader.Line(says)
		one.Line = &l
	}
	return one
}
