package client

import (
	"context"
	"errors"
	"fmt"
	"net/http"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/bridge"
)

// ConnectOver returns the project at the other end of a link. What only reads waits until a lost connection is there
// again, and then goes on where it was. Close does not close the link.
func ConnectOver(ctx context.Context, link *bridge.Link) (*Client, error) {
	c := &Client{link: link, http: http.Client{Transport: link}}
	c.record = record{c: c, root: api.Root, files: c.log}
	err := link.Begin(ctx) // the project is not silent while the user types a password
	if err == nil {
		err = c.hello(ctx)
	}
	if problem := link.Problem(); err != nil && problem != nil {
		err = problem
	}
	return c, err
}

const (
	// firstPause is how long after a lost connection it is opened again; the pause doubles up to longestPause.
	firstPause, longestPause = 250 * time.Millisecond, 5 * time.Second
)

// maySucceed reports whether the same request may succeed later: the connection was lost, and the project is perhaps
// still there. It waits before that.
func (c *Client) maySucceed(ctx context.Context, err error, tries int) bool {
	if c.link == nil || !errors.Is(err, ErrLost) || errors.Is(err, bridge.ErrGone) || !c.wasThere() {
		return false
	}
	select {
	case <-time.After(min(firstPause<<min(tries, 10), longestPause)):
		return true
	case <-ctx.Done():
		return false
	}
}

// wasThere reports whether the project has answered before: a first connection that fails is not tried again.
func (c *Client) wasThere() bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.newest != nil
}

// again repeats what only reads, as long as the connection is lost in between.
func (c *Client) again(ctx context.Context, read func() error) error {
	for tries := 0; ; tries++ {
		began := time.Now()
		err := read()
		if time.Since(began) > longestPause {
			tries = 0
		}
		if err == nil || !c.maySucceed(ctx, err, tries) {
			return err
		}
	}
}

// sameSession returns an error if a project was started again while the connection was lost.
func (c *Client) sameSession(snap *api.Snapshot) error {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.link == nil || c.newest == nil || c.newest.Project.Session == snap.Project.Session {
		return nil
	}
	return fmt.Errorf("%w: it was started again meanwhile", bridge.ErrGone)
}
