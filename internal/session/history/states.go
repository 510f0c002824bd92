package history

import (
	"context"
	"time"
)

// KeepStates writes the project's state once a minute while it changes, so that it is known after the session. An idle
// project writes nothing. Version returns another value whenever the state has changed. It blocks until the session is
// stopped.
func (r *Recorder) KeepStates(version func() any, stopped <-chan struct{}) {
	const first, pause = 3 * time.Second, time.Minute
	timer := time.NewTimer(first)
	defer timer.Stop()
	var kept any
	for {
		select {
		case <-timer.C:
			timer.Reset(pause)
		case <-stopped:
			return
		}
		now := version()
		if now == kept {
			continue
		}
		kept = now
		if shown, err := r.source.Snapshot(context.Background()); err == nil {
			r.Stood(shown)
		}
	}
}
