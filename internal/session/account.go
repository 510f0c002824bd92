package session

import (
	"context"
	"fmt"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/session/snapshot"
)

// Subscribe implements api.Project.
func (s *Session) Subscribe(ctx context.Context, since int64, hear func(api.Fact) error) error {
	for {
		facts, more, over, err := s.account.After(since)
		if err != nil {
			return err
		}
		for _, f := range facts {
			if err := hear(f); err != nil {
				return err
			}
			since = f.ID
		}
		switch {
		case len(facts) > 0: // there may be more now
			continue
		case over:
			return nil
		}
		select {
		case <-more:
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// tell adds one of the engine's facts to the account, and to the log, among the output.
func (l *loop) tell(f engine.Fact) {
	fact := l.convert().Fact(f)
	l.account.Add(fact)
	if f.Kind == engine.FactRunReady {
		if of := l.live[f.Unit]; of != nil {
			of.SettleFindings()
		}
	}
	if f.Quiet() {
		return
	}
	if of := l.live[f.Unit]; f.Kind == engine.FactPassStarted && of != nil && f.Ripple > 0 {
		of.BelongsTo(f.Ripple)
	}
	stream, text := logbook.Note, fact.Text
	switch f.Kind {
	case engine.FactRunStarted, engine.FactPassStarted:
		stream = logbook.Opens
	case engine.FactRunEnded, engine.FactPassEnded:
		stream = logbook.Ends
	case engine.FactRippleOpened, engine.FactRippleRested:
		text = fmt.Sprintf("ripple %d: %s", f.Ripple, text)
	}
	l.book.Append(
		logbook.Entry{Unit: f.Unit, Run: f.Run, Ripple: f.Ripple, Stream: stream, Tone: logbook.Tone(f.Tone())},
		strings.Split(text, "\n")...)
}

// say adds another fact to the account and the log.
func (s *Session) say(e logbook.Entry, f api.Fact) {
	e.Stream = logbook.Note
	f.At, f.Unit, f.Run, f.Tone, f.Text = time.Now().Round(0), e.Unit, e.Run, snapshot.Tones[e.Tone], s.clean(f.Text)
	s.account.Add(f)
	s.book.Append(e, strings.Split(f.Text, "\n")...)
}

// note adds a fact that is only text.
func (s *Session) note(e logbook.Entry, text string) {
	s.say(e, api.Fact{Kind: api.FactNote, Text: text})
}

// Note writes an event into the log.
func (s *Session) Note(text string) { s.note(logbook.Entry{}, text) }
