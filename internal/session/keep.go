package session

import (
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
)

// keepSnapshots writes the project's state once a minute while it changes, so that it can be drawn after the session.
// An idle project writes nothing.
func (s *Session) keepSnapshots(dir string) {
	const pause = time.Minute
	ticker := time.NewTicker(pause)
	defer ticker.Stop()
	var kept *engine.Snapshot
	for {
		select {
		case <-ticker.C:
		case <-s.stopped:
			return
		}
		if now := s.state(); now != kept {
			kept = now
			s.keepSnapshot(dir)
		}
	}
}

// keepSnapshot writes the project's state.
func (s *Session) keepSnapshot(dir string) {
	if dir == "" {
		return
	}
	err := api.KeepSnapshot(dir, s.shown())
	if err != nil && !s.unkept.Swap(true) {
		s.Note("this session cannot be drawn when it is over: " + err.Error())
	}
}
