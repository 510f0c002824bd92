package session

import (
	"context"
	"path/filepath"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/output/logbook"
	recorder "omnivigil/internal/session/history"
	"omnivigil/internal/store/history"
)

// record begins to write the history of the project, if it has one.
func (s *Session) record(c Config) {
	if s.reading.Dir = c.History; c.History == "" {
		close(s.recorded)
		return
	}
	limits := history.Limits(c.Plan.History)
	session := history.Session{Name: filepath.Base(c.Logs), Began: s.began, Once: c.Once}
	s.history = recorder.New(host{s}, history.New(c.History, session, limits, s.Note, s.trend), s.root)
	if s.meter != nil {
		s.meter.Sampled = s.history.Sampled
	}
	go func() {
		defer close(s.recorded)
		if err := s.history.Follow(); err != nil {
			s.Note("the history has an end here: " + err.Error())
		}
	}()
}

// trend reports a trend.
func (s *Session) trend(t history.Trend) {
	text := t.Text
	if t.Units != "" {
		text = t.Units + ": " + text
	}
	if t.Test != "" {
		text = t.Test + ": " + text
	}
	s.say(logbook.Entry{Unit: t.Unit, Tone: logbook.Stale}, api.Fact{Kind: api.FactTrend, Text: text})
}

// recordedSoon waits until the history is written, but not long: another process may be writing.
func (s *Session) recordedSoon() {
	const patience = 3 * time.Second
	select {
	case <-s.recorded:
	case <-time.After(patience):
	}
}

// History implements api.Project.
func (s *Session) History(ctx context.Context, q past.Query) (past.History, error) {
	return s.reading.History(ctx, q)
}

// keepLast writes the state in which the project has ended. Only the loop calls it.
func (l *loop) keepLast() {
	if l.history == nil {
		return
	}
	last := *l.shown()
	last.Ended = true
	l.history.Stood(&last)
}
