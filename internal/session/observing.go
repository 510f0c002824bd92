package session

import (
	"context"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/session/observation"
	"omnivigil/internal/text/format"
)

// Observations implements api.Project. Without names it returns those of all units that were ever observed.
func (s *Session) Observations(_ context.Context, names []string) (api.Observations, error) {
	units, err := s.named(names)
	if err != nil {
		return api.Observations{}, err
	}
	return s.observationsOf(units), nil
}

// observationsOf returns what units were seen to do, and how that differs from their settings. It reads directories.
func (s *Session) observationsOf(units []string) api.Observations {
	all := observation.Compare(s.Plan(), s.observed())
	all.Units = slices.DeleteFunc(all.Units, func(o api.Observation) bool {
		return len(units) > 0 && !slices.Contains(units, o.Unit)
	})
	all.Mismatches = slices.DeleteFunc(all.Mismatches, func(m api.Mismatch) bool {
		return len(units) > 0 && !slices.Contains(units, m.Unit)
	})
	return s.convert().Observations(all)
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
	if u := p.Unit(unit); u.Reuse && u.Observe {
		select {
		case s.rewatch <- struct{}{}:
		default:
		}
	}
	all[i].Seen = seen
	s.send(engine.Uncovered{Unit: unit, Run: run, Files: observation.Uncovered(p, all, unit)})
}

// observedInputs are the files that count as inputs of units because the units were seen to read them: of tasks whose
// results are reused, and that are always observed.
func (s *Session) observedInputs(p *plan.Plan) map[string][]string {
	inputs := map[string][]string{}
	var seen []observation.Observed
	for _, u := range p.Units {
		if u.Reuse && u.Observe {
			if seen == nil {
				seen = s.observed()
			}
			inputs[u.Name] = observation.Inputs(p, seen, u.Name)
		}
	}
	return inputs
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

// writeRules writes into the settings file what is proposed for units, except for notes.
func (s *Session) writeRules(units []string) (api.Answer, error) {
	p := s.Plan()
	switch {
	case len(units) == 0:
		return api.Answer{}, api.Refuse("%s needs the names of units", api.WriteRules)
	case p.Elsewhere():
		return api.Answer{}, api.Refuse("there is no settings file to write to")
	}
	var edits []settings.Edit
	for _, m := range observation.Compare(p, s.observed()).Mismatches {
		if m.Severity == api.SeverityNote || !slices.Contains(units, m.Unit) {
			continue
		}
		for _, e := range m.Edits {
			edits = append(edits, observation.SettingsEdit(e))
		}
	}
	if len(edits) == 0 {
		return api.Answer{}, api.Refuse("nothing is proposed for %s", format.List(units))
	}
	if err := settings.Extend(p.File, edits); err != nil {
		return api.Answer{}, api.Refuse("%s", s.clean(err.Error()))
	}
	lines := make([]string, len(edits))
	for i, e := range edits {
		lines[i] = e.Unit + ": " + e.String()
	}
	return api.Answer{Text: "Added " + s.clean(strings.Join(lines, "; ")) + "."}, nil
}
