package session

import (
	"context"
	"fmt"
	"strings"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/session/snapshot"
)

// keptFacts is how many facts are kept for subscribers.
const keptFacts = 5_000

// account is the newest facts, with their numbers.
type account struct {
	mu    sync.Mutex
	facts []api.Fact // oldest first; their numbers have no gaps
	last  int64
	more  chan struct{} // closed when there is another one
	over  bool          // there will be no more
}

func newAccount() *account { return &account{more: make(chan struct{})} }

// add adds a fact and sets its number.
func (a *account) add(f api.Fact) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.last++
	f.ID = a.last
	if a.facts = append(a.facts, f); len(a.facts) > 2*keptFacts {
		a.facts = append([]api.Fact(nil), a.facts[keptFacts:]...)
	}
	a.over = f.Kind == api.FactEnded
	close(a.more)
	a.more = make(chan struct{})
}

// after returns the facts after the one with a number, and a channel that is closed when there are more; over: there
// will be none. ErrGap: some are no longer kept.
func (a *account) after(number int64) (facts []api.Fact, more <-chan struct{}, over bool, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	oldest := a.last - int64(len(a.facts)) + 1
	if number+1 < oldest || number > a.last {
		return nil, nil, false, api.ErrGap
	}
	return a.facts[number+1-oldest:], a.more, a.over, nil
}

// Subscribe implements api.Project.
func (s *Session) Subscribe(ctx context.Context, since int64, hear func(api.Fact) error) error {
	for {
		facts, more, over, err := s.account.after(since)
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
	l.account.add(fact)
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
	s.account.add(f)
	s.book.Append(e, strings.Split(f.Text, "\n")...)
}

// note adds a fact that is only text.
func (s *Session) note(e logbook.Entry, text string) {
	s.say(e, api.Fact{Kind: api.FactNote, Text: text})
}

// Note writes an event into the log.
func (s *Session) Note(text string) { s.note(logbook.Entry{}, text) }
