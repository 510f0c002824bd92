package session

import (
	"context"

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
	return s.changes.Since(u.GoodSince(), u.Suspects)
}
