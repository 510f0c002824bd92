package session

import (
	"time"

	"omnivigil/internal/engine"
)

// keepSnapshots writes the project's state into the history once a minute while it changes, so that it is known after
// the session. An idle project writes nothing.
func (s *Session) keepSnapshots() {
	const first, pause = 3 * time.Second, time.Minute
	timer := time.NewTimer(first)
	defer timer.Stop()
	var kept *engine.Snapshot
	for {
		select {
		case <-timer.C:
			timer.Reset(pause)
		case <-s.stopped:
			return
		}
		if now := s.state(); now != kept {
			kept = now
			s.history.Stood(s.shown())
		}
	}
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
