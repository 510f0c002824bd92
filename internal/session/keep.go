package session

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"time"

	"omnivigil/internal/api"
)

// FactsFile is where the facts of a session are kept, in the folder of its log: JSON lines,
// each an api.Fact as docs/api.md describes it, in order. The last line may be torn where
// the session ended in a crash.
const FactsFile = "facts.jsonl"

// keepFacts writes down what happens, as it comes. A disk that is slow holds up nobody; what
// it cannot follow is not kept, and that is said.
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

// keptSoon waits until all facts are written down, but not long.
func (s *Session) keptSoon() {
	const patience = time.Second
	select {
	case <-s.kept:
	case <-time.After(patience):
	}
}
