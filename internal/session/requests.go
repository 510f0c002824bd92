package session

import (
	"context"
	"fmt"
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/session/impact"
)

// actions are the engine's requests for each action: of units, and without any.
var actions = map[api.Action]struct{ ofUnits, ofAll engine.Request }{
	api.Start:        {ofUnits: engine.StartUnit},
	api.Restart:      {engine.RestartUnit, engine.RestartAll},
	api.SetUp:        {ofUnits: engine.SetUpUnit},
	api.Stop:         {ofUnits: engine.StopUnit},
	api.Pause:        {engine.PauseUnit, engine.PauseAll},
	api.Resume:       {engine.ResumeUnit, engine.ResumeAll},
	api.KeepIgnoring: {ofUnits: engine.KeepIgnoring},
	api.ReactAgain:   {ofUnits: engine.ReactAgain},
	api.AddWords:     {ofUnits: engine.AddWords},
	api.RunWith:      {ofUnits: engine.RunWith},
	api.Narrow:       {ofUnits: engine.Narrow},
	api.Widen:        {ofUnits: engine.Widen},
	api.Dismiss:      {engine.Dismiss, engine.Dismiss},
	api.Only:         {engine.Only, engine.Only},
	api.End:          {ofAll: engine.Quit},
	api.EndNow:       {ofAll: engine.QuitNow},
}

// RequestFor returns the engine's request for an action, of units or without any; empty: there is none.
func RequestFor(a api.Action, ofUnits bool) engine.Request {
	if ofUnits {
		return actions[a].ofUnits
	}
	return actions[a].ofAll
}

// Do implements api.Project.
func (s *Session) Do(ctx context.Context, r api.Request) (api.Answer, error) {
	units, err := s.named(r.Units)
	if err != nil {
		return api.Answer{}, err
	}
	switch r.Action {
	case api.LeaveRunning, api.EndWithFaces:
		return s.keepRunning(r.Action == api.LeaveRunning)
	case api.FaceUsed:
		s.used(r.Face)
		return api.Answer{}, nil
	case api.ReadSettings:
		select {
		case s.reread <- struct{}{}:
		default: // that is still to be done
		}
		return api.Answer{}, nil
	case api.Touch:
		return s.touchDoubted(units)
	case api.WriteRules:
		return s.writeRules(units)
	case api.Observe:
		return s.observe(ctx, units)
	case api.WriteCure:
		return api.Answer{}, s.writeCures(units)
	}
	if r.Action == api.Start || r.Action == api.Restart || r.Action == api.SetUp || r.Action == api.RunWith {
		needs, _ := s.Plan().WithNeeds(units)
		for _, u := range needs { // units with missing outputs run first
			if !slices.Contains(units, u.Name) {
				s.outputsGone(u.Name)
			}
		}
	}
	request := RequestFor(r.Action, len(units) > 0)
	switch _, known := actions[r.Action]; {
	case !known:
		return api.Answer{}, &api.QueryError{Text: fmt.Sprintf("there is no action %q", r.Action)}
	case request == "" && len(units) == 0:
		return api.Answer{}, api.Refuse("%s needs the names of units", r.Action)
	case request == "":
		return api.Answer{}, api.Refuse("%s is for the whole project, not for units", r.Action)
	}
	asked := engine.Requested{Request: request, Units: units, Words: r.Words}
	if r.Action == api.Narrow {
		if asked.Words, asked.To, err = s.narrowing(units, r); err != nil {
			return api.Answer{}, err
		}
	}
	if len(r.For) > 0 {
		p := s.Plan()
		inputs := s.observations.Inputs(p)
		for _, path := range r.For {
			asked.Hits = append(asked.Hits, impact.WhyWith(p, inputs, path).Hits...)
		}
	}
	answer, err := s.ask(ctx, asked)
	if err == nil && r.Action == api.Narrow && !r.Failing {
		answer.Text = s.outcomes.Matching(units[0], r.Cases)
	}
	return answer, err
}

// named returns the units for names of units and groups, each once.
func (s *Session) named(names []string) ([]string, error) {
	p := s.Plan()
	var units []string
	for _, name := range names {
		members := p.Expand(name)
		if members == nil {
			return nil, api.Refuse("there is no unit or group %q; %s", s.clean(name), p.Hint(name))
		}
		for _, m := range members {
			if !slices.Contains(units, m) {
				units = append(units, m)
			}
		}
	}
	return units, nil
}

// ask asks the engine and waits for its answer.
func (s *Session) ask(ctx context.Context, r engine.Requested) (api.Answer, error) {
	answered := make(chan engine.Answer, 1)
	s.mu.Lock()
	s.asked++
	id := s.asked
	s.answers[id] = answered
	s.mu.Unlock()
	defer func() {
		s.mu.Lock()
		delete(s.answers, id)
		s.mu.Unlock()
	}()
	r.ID = id
	s.send(r)
	select {
	case a := <-answered:
		if refusal := explain.Refusal(a.Refusal); refusal != "" {
			return api.Answer{}, api.Refuse("%s", s.clean(refusal))
		}
		answer := api.Answer{Ripple: a.Ripple}
		switch {
		case a.Ripple > 0:
		case r.Request == engine.PauseUnit || r.Request == engine.PauseAll:
			answer.Text = "Changes are kept, and acted on when reactions are resumed."
		case r.Request == engine.Only:
			answer.Text = "No process had to be started or stopped."
		case r.Request != engine.Quit && r.Request != engine.QuitNow:
			answer.Text = "Nothing had to be done."
		}
		return answer, nil
	case <-s.done:
		select {
		case <-answered: // the session has ended because of this
			return api.Answer{}, nil
		default:
		}
		return api.Answer{}, api.Refuse("the project has ended")
	case <-ctx.Done():
		return api.Answer{}, ctx.Err()
	}
}

// answer passes on the engine's answer to a request.
func (s *Session) answer(a engine.Answer) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.answers[a.ID]; c != nil {
		c <- a
	}
}

// Request sends a request and does not wait for the answer. It returns when the loop has room for it.
func (s *Session) Request(r engine.Request, units ...string) {
	s.send(engine.Requested{Request: r, Units: units})
}
