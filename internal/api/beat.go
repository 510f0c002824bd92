package api

import (
	"context"
	"errors"
	"time"
)

// Beat is the interval of a project's heartbeats, and Silence how long none may arrive until a face reports that
// there is no answer.
const (
	Beat    = time.Second
	Silence = 3 * time.Second
)

// ErrSilent: the process that runs a project exists, but does not answer.
var ErrSilent = errors.New("no answer from the project: its process may be stopped")

// WatchSilence reports how long a project has been silent: once a second from Silence on, and 0 when it answers
// again, until the context is done. It counts only seconds in which this process runs.
func WatchSilence(ctx context.Context, p Project, tell func(silent time.Duration)) {
	heard := make(chan struct{}, 1)
	go func() {
		for ctx.Err() == nil { // a lost stream is opened again
			p.Beats(ctx, func() error {
				select {
				case heard <- struct{}{}:
				default:
				}
				return nil
			})
			select {
			case <-time.After(Beat):
			case <-ctx.Done():
			}
		}
	}()
	tick := time.NewTicker(Beat)
	defer tick.Stop()
	for silent := time.Duration(0); ; {
		select {
		case <-ctx.Done():
			return
		case <-tick.C:
		}
		select {
		case <-heard:
			if silent >= Silence {
				tell(0)
			}
			silent = 0
		default:
			if silent += Beat; silent >= Silence {
				tell(silent)
			}
		}
	}
}
