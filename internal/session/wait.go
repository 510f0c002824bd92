package session

import (
	"context"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/session/waited"
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
		return s.waited().Of(snap, units, time.Since(began), false), nil
	case <-timeout:
		return s.waited().Of(s.state(), units, time.Since(began), true), nil
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

// waited describes the result of waiting.
func (s *Session) waited() waited.Result { return waited.Result{Clean: s.convert(), Log: s.book.View} }
