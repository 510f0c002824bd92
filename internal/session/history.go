package session

import (
	"context"
	"errors"
	"path/filepath"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/output/logbook"
	recorder "omnivigil/internal/session/history"
	"omnivigil/internal/store/history"
)

// record begins to write the history of the project, if it has one.
func (s *Session) record(c Config) {
	if s.reading.dir = c.History; c.History == "" {
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
	r, err := s.historyReader()
	if err != nil {
		return past.History{}, err
	}
	return r.History(ctx, q)
}

// historyReader opens the history when it is first read.
func (s *Session) historyReader() (*history.Reader, error) {
	s.reading.mu.Lock()
	defer s.reading.mu.Unlock()
	if s.reading.reader != nil {
		return s.reading.reader, nil
	}
	if s.reading.dir == "" {
		return nil, api.Refuse("no history is kept of this project")
	}
	r, err := history.Read(s.reading.dir)
	if errors.Is(err, history.ErrNone) || errors.Is(err, history.ErrNewer) {
		return nil, api.Refuse("%v", err)
	}
	s.reading.reader = r
	return r, err
}

// earlierFailure returns the last failure of a unit before it last ran well, and what fixed that; nil: none is known.
func (s *Session) earlierFailure(unit string) *api.Earlier {
	const most = 1000
	h, err := s.History(context.Background(), past.Query{What: past.Runs, Units: []string{unit}, Count: most})
	if err != nil {
		return nil
	}
	var fix *past.Run // the good run that was looked at last
	for i := range h.Runs {
		switch r := &h.Runs[i]; {
		case !api.State(r.Outcome).Broken() && r.Took > 0:
			fix = r
		case api.State(r.Outcome).Broken() && fix != nil:
			how := r.Outcome
			if r.Exit != "" {
				how += ": " + r.Exit
			}
			return &api.Earlier{
				At: r.Ended, Run: r.Number, How: how, FixedAt: fix.Began, Because: fix.Because, Revision: fix.Revision,
			}
		}
	}
	return nil
}

// reading is the history as faces read it.
type reading struct {
	dir    string // empty: there is none
	mu     sync.Mutex
	reader *history.Reader // nil: not opened yet
}

// close closes it.
func (r *reading) close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.reader != nil {
		r.reader.Close()
	}
}
