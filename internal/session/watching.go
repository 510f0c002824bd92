package session

import (
	"cmp"
	"errors"
	"time"

	"omnivigil/internal/concern"
	"omnivigil/internal/engine"
	"omnivigil/internal/watch"
)

// watching is what the session watches files with. Only current may be used from any goroutine.
type watching struct {
	open  func(after int) (Watcher, error)
	retry <-chan time.Time // when it is tried again to watch; nil: not at all
	lost  bool             // files are not watched, or what was missed is still to be told
	burst int              // the newest that was told
	since time.Time        // when the watcher was opened
}

// reopenPause is how long after a failed attempt to watch files the next one is made.
const reopenPause = time.Second

// watcherNow returns the watcher in use. It may be called from any goroutine.
func (s *Session) watcherNow() Watcher {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.watcher
}

// fileEvents is where files are told of, nil while they are not watched.
func (s *Session) fileEvents() <-chan watch.Event {
	if s.watching.retry != nil {
		return nil
	}
	return s.watcher.Events()
}

// notWatched says that files are not watched any more, and tries to watch them again.
func (s *Session) notWatched() {
	err := cmp.Or(s.watcher.Err(), errors.New("the watcher has ended"))
	s.watcher.Close()
	s.watching.lost = true
	now := time.Now()
	s.step(now, engine.Unwatched{Problem: err.Error()})
	if now.Sub(s.watching.since) < reopenPause {
		s.watching.retry = time.After(reopenPause)
	} else {
		s.watchAgain()
	}
}

// watchAgain opens a new watcher. What it finds is told when it watches: see missed.
func (s *Session) watchAgain() {
	s.watching.burst++ // for what was missed
	w, err := s.watching.open(s.watching.burst)
	if err != nil {
		s.watching.retry = time.After(reopenPause)
		s.step(time.Now(), engine.Unwatched{Problem: err.Error()})
		return
	}
	s.watching.retry, s.watching.since = nil, time.Now()
	s.mu.Lock()
	s.watcher = w
	s.mu.Unlock()
	s.watchForNewest()
}

// missed takes all that is watched for changed, once files are watched again: nobody has told what
// became of them.
func (s *Session) missed(now time.Time) {
	s.watching.lost = false
	s.step(now, engine.Unwatched{})
	if s.once {
		return
	}
	burst := s.watching.burst
	touched := engine.Touched{Burst: burst}
	change := engine.Change{Burst: burst, Since: s.moment(now)}
	unchanged := engine.Unchanged{Burst: burst}
	for _, in := range concern.InterestsWithout(s.plan, s.ignored) {
		u := s.plan.Unit(in.Key)
		if u == nil || u.Relay != nil || len(in.Rules) == 0 {
			continue
		}
		touched.Units = append(touched.Units, u.Name)
		if u.Pass != nil { // it may have taken up all that there is
			unchanged.Units = append(unchanged.Units, u.Name)
			continue
		}
		change.Hits = append(change.Hits, engine.Hit{Unit: u.Name, Path: "the watched files", What: engine.Missed, Rule: in.Rules[0].Pattern})
	}
	s.step(now, touched)
	s.step(now, change)
	s.step(now, unchanged)
	s.readSettings(now, burst)
	s.mu.Lock()
	for _, w := range s.waiters {
		w.heard = true
	}
	s.mu.Unlock()
}
