// Package verdicts keeps the verdicts of a session over time, so that faces can show the past as it was.
package verdicts

import (
	"sort"
	"sync"
	"time"

	"omnivigil/internal/api"
)

// kept is how many verdicts are kept at least.
const kept = 4000

// History is the verdicts of a session, oldest first. Its methods may be called from any goroutine. The zero value is
// empty.
type History struct {
	mu  sync.Mutex
	all []api.PastVerdict
	bad bool // the newest verdict that was not updating is bad
}

// Add adds the verdict from a time on, if it differs from the one before. A time before that of the last one counts as
// the same. It returns what was added.
func (h *History) Add(at time.Time, v api.Verdict) (added api.PastVerdict, is bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	if n := len(h.all); n > 0 && h.all[n-1].Verdict == v {
		return api.PastVerdict{}, false
	}
	one := api.PastVerdict{At: at, Verdict: v}
	if n := len(h.all); n > 0 && at.Before(h.all[n-1].At) {
		one.At = h.all[n-1].At // the clock was set back
	}
	if v.Word != api.VerdictUpdating {
		if bad := v.Word.Bad(); bad != h.bad {
			h.bad, one.Turned = bad, api.TurnedGood
			if bad {
				one.Turned = api.TurnedBad
			}
		}
	}
	if h.all = append(h.all, one); len(h.all) > 2*kept {
		h.all = append([]api.PastVerdict(nil), h.all[kept:]...)
	}
	return one, true
}

// Find returns the verdict at a time or, with a turn, the last one up to that time with which the project turned bad
// or good. It returns false if none is known.
func (h *History) Find(q api.VerdictQuery) (api.PastVerdict, bool) {
	h.mu.Lock()
	defer h.mu.Unlock()
	i := len(h.all) - 1
	if !q.At.IsZero() {
		i = sort.Search(len(h.all), func(i int) bool { return h.all[i].At.After(q.At) }) - 1
	}
	for ; i >= 0; i-- {
		if q.Turned == "" || h.all[i].Turned == q.Turned {
			return h.all[i], true
		}
	}
	return api.PastVerdict{}, false
}
