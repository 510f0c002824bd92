package session

import (
	"context"
	"path/filepath"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/watch"
)

// readSettings reads the edited file. A broken one changes nothing; a good one is
// adopted once its files are watched, so that no write to them is missed.
func (s *Session) readSettings(now time.Time, burst int) {
	edited, err := plan.ReadFor(s.plan.File, s.plan.Root)
	if err != nil {
		s.edited = nil
		problem := strings.ReplaceAll(err.Error(), s.plan.File, filepath.Base(s.plan.File))
		s.step(now, engine.PlanBroken{Problem: problem, Burst: burst})
		return
	}
	s.edited, s.burst = edited, burst
	s.watchFor(edited)
}

// watchFor has the watcher look for what concerns a plan's units.
func (s *Session) watchFor(p *plan.Plan) {
	s.edits++
	interests := impact.InterestsWithout(p, s.ignored)
	if own, err := filepath.Rel(s.root, s.ownFolder); err == nil && s.ownFolder != "" && filepath.IsLocal(own) {
		for i := range interests { // what it writes itself is not a change
			interests[i].Ignore = append(interests[i].Ignore, watch.Literal(filepath.ToSlash(own))+"/**")
		}
	}
	s.watcher.SetInterests(interests, s.edits)
}

// watchForNewest is watchFor the newest settings that can be used, whether they are in use yet or not.
func (s *Session) watchForNewest() {
	if s.edited != nil {
		s.watchFor(s.edited)
	} else {
		s.watchFor(s.plan)
	}
}

func (s *Session) adopt(now time.Time) {
	if s.edited == nil {
		return
	}
	before := s.plan
	s.plan, s.edited = s.edited, nil
	s.hide(s.plan)
	s.book.SetLimits(logbook.Limits(s.plan.Logs))
	s.shownPlan.Store(s.plan)
	s.trackers.adopt(s.plan)
	s.step(now, engine.NewPlan{Plan: s.plan, Burst: s.burst})
	for _, text := range consent.News(before, s.plan) {
		s.Note("new in the settings: " + text)
	}
	if s.adopted != nil {
		s.adopted(s.plan)
	}
}

// writeCures writes into the settings file that units ignore what sets them off in a loop.
func (s *Session) writeCures(units []string) error {
	if s.Plan().Elsewhere() {
		return api.Refuse("there is no settings file to write to; add --ignore to the command")
	}
	for _, unit := range units {
		u := s.state().Unit(unit)
		if u == nil || u.Loop == nil {
			return api.Refuse("%s is not in a loop", unit)
		}
		if err := plan.Ignore(s.Plan().File, unit, impact.Cure(u.Loop.Files)); err != nil {
			return api.Refuse("%s", s.clean(err.Error()))
		}
	}
	return nil
}

// Why implements api.Project, by the settings in use.
func (s *Session) Why(_ context.Context, path string) (api.Impact, error) {
	return s.impactOf(impact.Why(s.Plan(), path)), nil
}
