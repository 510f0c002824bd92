package client

import (
	"bufio"
	"context"
	"errors"
	"io"
	"net/http"
	"net/url"
	"sync"
	"time"

	"omnivigil/internal/api"
)

// patience is the number of missed heartbeats after which requests are cancelled.
const patience = 5

// Beats implements Project.
func (c *Client) Beats(ctx context.Context, beat func() error) error {
	body, err := c.ask(ctx, http.MethodGet, api.Root+"/beats", nil, nil)
	if err != nil {
		return err
	}
	defer body.Close()
	for in := bufio.NewScanner(body); in.Scan(); {
		if len(in.Bytes()) == 0 {
			continue
		}
		if err := beat(); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// guard cancels requests to a silent project: not slow requests, but those to a process that does not run at all.
type guard struct {
	mu      sync.Mutex
	waiting map[*context.CancelCauseFunc]bool
	stop    context.CancelFunc // stops listening; nil: there is no listener
}

// during returns a context that is cancelled with ErrSilent if the project is silent for too long, until done is
// called.
func (c *Client) during(ctx context.Context) (guarded context.Context, done func()) {
	guarded, cancel := context.WithCancelCause(ctx)
	if c.Patient {
		return guarded, func() { cancel(nil) }
	}
	g := &c.guard
	key := &cancel
	g.mu.Lock()
	defer g.mu.Unlock()
	if g.waiting == nil {
		g.waiting = map[*context.CancelCauseFunc]bool{}
	}
	g.waiting[key] = true
	if g.stop == nil {
		var listening context.Context
		listening, g.stop = context.WithCancel(context.Background())
		go c.listen(listening)
	}
	return guarded, func() {
		cancel(nil)
		g.mu.Lock()
		defer g.mu.Unlock()
		if delete(g.waiting, key); len(g.waiting) == 0 && g.stop != nil {
			g.stop()
			g.stop = nil
		}
	}
}

// listen cancels all pending requests after too many missed heartbeats in a row. It counts ticks instead of reading a
// clock: while this process itself is stopped, it does not count.
func (c *Client) listen(ctx context.Context) {
	tick := time.NewTicker(api.Beat)
	defer tick.Stop()
	select { // most requests are answered at once
	case <-tick.C:
	case <-ctx.Done():
		return
	}
	heard := make(chan struct{}, 1)
	go c.Beats(ctx, func() error {
		select {
		case heard <- struct{}{}:
		default:
		}
		return nil
	})
	for missed := 0; missed < patience; missed++ {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		select {
		case <-heard:
			missed = -1
		default:
		}
	}
	c.guard.mu.Lock()
	defer c.guard.mu.Unlock()
	for cancel := range c.guard.waiting {
		(*cancel)(api.ErrSilent)
	}
}

// answered is the body of an answer, which can be read until the project is silent.
type answered struct {
	io.ReadCloser
	guarded context.Context
	done    func()
}

func (a *answered) Read(p []byte) (int, error) {
	n, err := a.ReadCloser.Read(p)
	if err != nil && errors.Is(context.Cause(a.guarded), api.ErrSilent) {
		err = api.ErrSilent
	}
	return n, err
}

func (a *answered) Close() error {
	a.done()
	return a.ReadCloser.Close()
}

// open sends a request and returns the answer's body, or the error in it. It fails with api.ErrSilent if the project
// is silent.
func (c *Client) open(ctx context.Context, method, path string, query url.Values, body any) (io.ReadCloser, error) {
	guarded, done := c.during(ctx)
	in, err := c.ask(guarded, method, path, query, body)
	if err != nil {
		if errors.Is(context.Cause(guarded), api.ErrSilent) {
			err = api.ErrSilent
		}
		done()
		return nil, err
	}
	return &answered{in, guarded, done}, nil
}
