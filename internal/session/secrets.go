package session

import (
	"io"
	"os"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/snapshot"
	"omnivigil/internal/text/escape"
)

// Secrets are masked where text enters: in the lines of processes before they are logged, and in the engine's events.
// So no log, screen, recording or export ever has them. The processes themselves get the real values.

// hide adds a plan's secrets, and those of the share, to the mask. Earlier values stay secret: a process may still
// print them.
func (s *Session) hide(p *plan.Plan) {
	s.hidden.Store(s.hidden.Load().With(append(p.SecretValues(os.Environ()), s.secrets...)))
}

func (s *Session) masked(w io.Writer) io.Writer { return lateWriter{s, w} }

// lateWriter masks with the secrets at the time of each write.
type lateWriter struct {
	s  *Session
	to io.Writer
}

func (w lateWriter) Write(p []byte) (int, error) { return w.s.hidden.Load().Writer(w.to).Write(p) }

// maskedEvent masks secrets in the texts of an event.
func (s *Session) maskedEvent(ev engine.Event) engine.Event {
	m := s.hidden.Load()
	switch e := ev.(type) {
	case engine.Probed:
		e.Saw = m.String(e.Saw)
		return e
	case engine.Asks:
		e.For = m.String(e.For)
		return e
	case engine.NotSpawned:
		e.Problem = m.String(e.Problem)
		return e
	case engine.SettingUp:
		e.Step = m.String(e.Step)
		return e
	case engine.PlanBroken:
		e.Problem = m.String(e.Problem)
		return e
	case engine.NewPlan:
		e.Problem = m.String(e.Problem)
		return e
	}
	return ev
}

// clean makes text of others safe to show.
func (s *Session) clean(text string) string {
	if text == "" {
		return ""
	}
	return escape.Lines(s.hidden.Load().String(text))
}

// convert is the conversion of the engine's values for faces.
func (s *Session) convert() snapshot.Converter { return s.clean }
