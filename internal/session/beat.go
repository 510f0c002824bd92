package session

import (
	"context"
	"sync"
	"time"

	"omnivigil/internal/engine"
)

// beats are the listeners to the loop's heartbeat.
type beats struct {
	mu   sync.Mutex
	want map[chan struct{}]bool
}

// Beats implements api.Project. The loop itself sends the heartbeats: if it hangs, there are none.
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

// beat sends a heartbeat, and checks what the loop relies on. Only the loop calls it, about once a second.
func (l *loop) beat(now time.Time) {
	b := &l.beats
	b.mu.Lock()
	for c := range b.want {
		select {
		case c <- struct{}{}:
		default: // one is pending
		}
	}
	b.mu.Unlock()
	l.book.Check()
	for _, live := range l.live {
		l.pages.LookAt(live)
	}
	// If the wall clock was set, the engine must learn of it now: later that could not be distinguished from a clock
	// that runs a little fast or slow.
	ahead := now.Round(0).Sub(l.began.Round(0)) - now.Sub(l.began)
	if (ahead - l.ahead).Abs() > clockJitter {
		l.step(now, engine.TimerFired{})
	}
	l.ahead = ahead
}

// clockJitter is how much the wall clock must have moved in a second to count as set. Reading both clocks takes a
// moment on a busy machine.
const clockJitter = 10 * time.Millisecond
