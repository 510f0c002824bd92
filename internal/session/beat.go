package session

import (
	"context"
	"sync"
	"time"

	"omnivigil/internal/engine"
)

// beats are those who want to know that the loop turns.
type beats struct {
	mu   sync.Mutex
	want map[chan struct{}]bool
}

// Beats implements api.Project. The loop itself is what beats: where it hangs, nothing does.
func (s *Session) Beats(ctx context.Context, beat func() error) error {
	c := make(chan struct{}, 1)
	b := &s.beats
	b.mu.Lock()
	if b.want == nil {
		b.want = map[chan struct{}]bool{}
	}
	b.want[c] = true
	b.mu.Unlock()
	defer func() {
		b.mu.Lock()
		delete(b.want, c)
		b.mu.Unlock()
	}()
	for {
		select {
		case <-c:
			if err := beat(); err != nil {
				return err
			}
		case <-s.done:
			return nil
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// beat tells those who want to know that the loop turns, and looks whether what it relies on is as it was.
// Only the loop calls it, about once a second.
func (l *loop) beat(now time.Time) {
	b := &l.beats
	b.mu.Lock()
	for c := range b.want {
		select {
		case c <- struct{}{}:
		default: // it has one to look at
		}
	}
	b.mu.Unlock()
	l.book.Check()
	for _, live := range l.live {
		l.pages.LookAt(live)
	}
	// Where the wall clock was set, the engine is to hear of it now: later it could not be distinguished from a
	// clock that runs a little fast or slow.
	ahead := now.Round(0).Sub(l.began.Round(0)) - now.Sub(l.began)
	if (ahead - l.ahead).Abs() > clockJitter {
		l.step(now, engine.TimerFired{})
	}
	l.ahead = ahead
}

// clockJitter is how much the wall clock must have moved in a second to have been set. Reading both clocks
// takes a moment on a busy machine.
const clockJitter = 10 * time.Millisecond
