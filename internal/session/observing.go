package session

import (
	"context"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/observation"
)

// Observations implements api.Project. Without names it returns those of all units that were ever observed.
func (s *Session) Observations(_ context.Context, names []string) (api.Observations, error) {
	units, err := s.named(names)
	if err != nil {
		return api.Observations{}, err
	}
	all := observation.Compare(s.Plan(), s.observed())
	all.Units = slices.DeleteFunc(all.Units, func(o api.Observation) bool {
		return len(units) > 0 && !slices.Contains(units, o.Unit)
	})
	all.Mismatches = slices.DeleteFunc(all.Mismatches, func(m api.Mismatch) bool {
		return len(units) > 0 && !slices.Contains(units, m.Unit)
	})
	return s.convert().Observations(all), nil
}

// observed returns what units were seen to do.
func (s *Session) observed() []observation.Observed {
	return s.observations.Of(s.Plan(), func(unit string) time.Time {
		if u := s.state().Unit(unit); u != nil && !u.Run.ReadyAt.IsZero() {
			return s.time(u.Run.ReadyAt)
		}
		return time.Time{}
	})
}

// observedNews tells the engine which files the newest run of a unit has read that no rule covers. It blocks.
func (s *Session) observedNews(unit string) {
	p, all := s.Plan(), s.observed()
	i := slices.IndexFunc(all, func(o observation.Observed) bool { return o.Unit == unit })
	if i < 0 {
		return
	}
	seen, newest := s.observations.OfRun(unit, all[i].Run)
	if !newest {
		return
	}
	run := all[i].Run
	all[i].Seen = seen
	s.send(engine.Uncovered{Unit: unit, Run: run, Files: observation.Uncovered(p, all, unit)})
}

// observeAnew compares what was observed with new settings. It does not block.
func (s *Session) observeAnew(p *plan.Plan) {
	for _, u := range p.Units {
		if u.Relay == nil {
			go s.observedNews(u.Name)
		}
	}
}

// observeFromNow restarts units under observation.
func (s *Session) observeFromNow(ctx context.Context, units []string) (api.Answer, error) {
	if err := observation.Available(); err != nil {
		return api.Answer{}, api.Refuse("%s", err)
	}
	request := engine.RestartUnit
	if s.observations.Ask(units); len(units) == 0 {
		for _, u := range s.state().Units {
			if u.Wanted {
				s.observations.Ask([]string{u.Name})
			}
		}
		request = engine.RestartAll
	}
	return s.ask(ctx, engine.Requested{Request: request, Units: units})
}
