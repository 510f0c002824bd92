package session

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/output/reader"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/snapshot"
	"omnivigil/internal/text/format"
)

// waiter is a face that waits until everything is at rest.
type waiter struct {
	units []string // none: all
	chain []string // the units and all that they need or follow
	heard bool     // everything written before the wait is known
	rest  chan *engine.Snapshot
}

// Wait implements api.Project.
func (s *Session) Wait(ctx context.Context, q api.WaitQuery) (api.Waited, error) {
	units, err := s.named(q.Units)
	if err != nil {
		return api.Waited{}, err
	}
	began := time.Now()
	w := &waiter{units: units, rest: make(chan *engine.Snapshot, 1)}
	chain, _ := s.Plan().WithNeeds(units)
	for _, u := range chain {
		w.chain = append(w.chain, u.Name)
	}
	s.mu.Lock()
	s.waits++
	number := s.waits
	s.waiters[number] = w
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.waiters, number)
		s.mu.Unlock()
	}()
	s.watcherNow().CatchUp(number)
	var timeout <-chan time.Time
	if q.Timeout > 0 {
		timer := time.NewTimer(q.Timeout.Duration())
		defer timer.Stop()
		timeout = timer.C
	}
	select {
	case snap := <-w.rest:
		return s.waited(snap, units, began, false), nil
	case <-timeout:
		return s.waited(s.state(), units, began, true), nil
	case <-s.done:
		return api.Waited{}, api.Refuse("the project has ended")
	case <-ctx.Done():
		return api.Waited{}, ctx.Err()
	}
}

// caughtUp records that the engine knows what a waiter waits for.
func (s *Session) caughtUp(number int) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if w := s.waiters[number]; w != nil {
		w.heard = true
	}
}

// release answers the waiters whose units are at rest.
func (l *loop) release(snap *engine.Snapshot) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.first != nil { // the project has not started
		return
	}
	for number, w := range l.waiters {
		if (w.heard || l.watching.retry != nil) && snap.AtRest(w.units, w.chain) {
			w.rest <- snap
			delete(l.waiters, number)
		}
	}
}

// waited is the result of waiting.
func (s *Session) waited(snap *engine.Snapshot, units []string, began time.Time, timedOut bool) api.Waited {
	out := api.Waited{TimedOut: timedOut, Took: api.Seconds(time.Since(began))}
	out.Verdict = api.Verdict{Word: snapshot.VerdictWord(snap), Text: s.clean(explain.Verdict(snap))}
	var broken, stale []api.WaitedUnit
	var passed []string
	for _, u := range snap.Units {
		among := slices.Contains(units, u.Name)
		if len(units) > 0 && !among || u.Freshness == engine.Current ||
			len(units) == 0 && !u.Wanted && !u.State.Broken() {
			continue
		}
		if among && u.State == engine.Done && u.Stale != nil && u.Stale.OnlyNarrowed {
			passed = append(passed, fmt.Sprintf("%s passed, narrowed to %s", u.Name, s.clean(u.Narrowed)))
			continue
		}
		one := s.waitedUnit(u)
		if u.State.Broken() {
			broken = append(broken, one)
		} else {
			stale = append(stale, one)
		}
	}
	out.Trouble = slices.Concat(broken, stale)
	for _, d := range s.convert().Doubts(snap.Doubts) {
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

func (s *Session) waitedUnit(u *engine.Unit) api.WaitedUnit {
	one := api.WaitedUnit{
		Unit:      u.Name,
		State:     api.State(u.State.String()),
		Freshness: api.Freshness(u.Freshness.String()),
		Run:       u.Run.Number,
		Why:       s.clean(explain.Why(u)),
	}
	if !u.State.Broken() {
		return one
	}
	if u.Pass.Number > 0 && !u.Pass.Good && u.Pass.Saw != "" { // earlier output is from passes that are over
		one.Why = s.clean(u.Pass.Saw)
		return one
	}
	if one.Why = s.clean(explain.Failed(u)); u.Failure.Report != nil {
		return one // that says it
	}
	v, err := s.book.View()
	if err != nil {
		return one
	}
	// A service may have written much earlier, about problems that are long solved.
	if says, ok := v.Reason(
		u.Name,
		u.Run.Number,
	); ok &&
		(u.Kind != plan.Service || u.Run.EndedAt.Wall.Sub(says.At) < lastWords) {
		l := reader.Line(says)
		one.Line = &l
	}
	return one
}
