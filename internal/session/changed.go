package session

import (
	"context"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
)

// Changes implements api.Record.
func (s *Session) Changes(_ context.Context, q changes.Query) (changes.Changes, error) {
	switch {
	case !s.keepsChanges():
		return changes.Changes{}, api.Refuse("changes are not kept")
	case q.Unit == "":
		return s.changes.Of(q.Ripple)
	}
	u := s.shown().Unit(q.Unit)
	if u == nil {
		return changes.Changes{}, s.noUnit(q.Unit)
	}
	return s.sinceGood(u), nil
}

func (s *Session) keepsChanges() bool { return s.changes != nil && s.Plan().KeepChanges }

// sinceGood returns what has changed since the last good run of a unit began.
func (s *Session) sinceGood(u *api.Unit) changes.Changes {
	if !s.keepsChanges() {
		return changes.Changes{}
	}
	return s.changes.Since(goodSince(u), u.Suspects)
}

// goodSince is when the last good run of a unit began; zero: there was none.
func goodSince(u *api.Unit) (at time.Time) {
	run := 0
	for _, m := range slices.Backward(u.Marks) {
		if run == 0 && (m.State == api.Ready || m.State == api.Done) {
			run = m.Run
		}
		if run > 0 && m.Run == run {
			at = m.At
		}
	}
	return at
}
