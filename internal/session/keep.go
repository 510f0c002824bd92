package session

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
)

// FactsFile is the file of a session's facts, in the directory of its log: JSON lines, each an api.Fact as described
// in docs/api.md, in order. The last line may be incomplete after a crash.
const FactsFile = "facts.jsonl"

// keepFacts writes facts as they come. A slow disk delays nothing; facts that it cannot follow are not kept, which is
// reported.
func (s *Session) keepFacts(dir string) {
	defer close(s.kept)
	err := os.MkdirAll(dir, 0o700)
	var f *os.File
	if err == nil {
		f, err = os.OpenFile(filepath.Join(dir, FactsFile), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	}
	if err != nil {
		s.Note("what happens is not kept for later: " + err.Error())
		return
	}
	defer f.Close()
	out := json.NewEncoder(f)
	out.SetEscapeHTML(false)
	if err := s.Subscribe(context.Background(), 0, func(fact api.Fact) error { return out.Encode(fact) }); err != nil {
		s.Note(fmt.Sprintf("what happens is not kept for later any more: %v", err))
	}
}

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

// keptSoon waits until all facts are written, but not long.
func (s *Session) keptSoon() {
	const patience = time.Second
	select {
	case <-s.kept:
	case <-time.After(patience):
	}
}
