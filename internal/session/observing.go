package session

import (
	"context"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/session/observation"
)

// Observations implements api.Project.
func (s *Session) Observations(_ context.Context, names []string) (api.Observations, error) {
	units, err := s.named(names)
	if err != nil {
		return api.Observations{}, err
	}
	return s.convert().Observations(s.observations.Compare(units)), nil
}

// observe restarts units under observation; none: every enabled unit.
func (s *Session) observe(ctx context.Context, units []string) (api.Answer, error) {
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

// writeRules writes into the settings file what is proposed for units.
func (s *Session) writeRules(units []string) (api.Answer, error) {
	switch {
	case len(units) == 0:
		return api.Answer{}, api.Refuse("%s needs the names of units", api.WriteRules)
	case s.Plan().Elsewhere():
		return api.Answer{}, api.Refuse("there is no settings file to write to")
	}
	added, err := s.observations.WriteRules(units)
	if err != nil {
		return api.Answer{}, api.Refuse("%s", s.clean(err.Error()))
	}
	return api.Answer{Text: "Added " + s.clean(strings.Join(added, "; ")) + "."}, nil
}
