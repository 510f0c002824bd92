// Package client is a project that runs in another process: a Client is an api.Project again, carried over the
// project's Unix socket. Start reading at Connect.
//
// A request to a project that does not answer (its process is stopped, or its loop hangs) fails with api.ErrSilent
// after a few missed heartbeats, unless the client is Patient. Lines of the log are read from its files where the
// client can reach them.
package client

import (
	"bufio"
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"strings"
	"sync"

	"omnivigil/internal/api"
	"omnivigil/internal/api/bridge"
	"omnivigil/internal/api/past"
	"omnivigil/internal/api/socket"
)

// Client is a project in another process.
type Client struct {
	// Near returns a log that is read from files. It is told the newest save, and whether a unit's lines
	// are always shown as they were written. Nil: the other process is asked for lines.
	Near func(folder string, lastSave func() api.Save, asWritten func(unit string) bool) api.Log

	// Patient waits for the project without a limit, even if it is silent: see ErrSilent.
	Patient bool

	record // the running session
	http   http.Client
	guard  guard
	socket string
	link   *bridge.Link // to another machine; nil: it is on this one

	mu     sync.Mutex
	newest *api.Snapshot // the newest snapshot received
	near   api.Log
}

var _ api.Project = (*Client)(nil)

// ErrLost: the supervisor is gone, but the project has not ended in order.
var ErrLost = errors.New("the process that runs the project is gone")

// Connect returns the project that runs at a place. It returns ErrNotRunning if none does, and an explanation if it
// has another version of the contract.
func Connect(ctx context.Context, at socket.Place) (*Client, error) {
	if errors.Is(at.Trusted(), socket.ErrNotRunning) { // perhaps it runs in another environment
		at = at.Listening()
	}
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) { return at.Dial(ctx) }
	c := &Client{
		socket: at.Socket,
		http: http.Client{
			Transport: &http.Transport{DialContext: dial, MaxIdleConnsPerHost: 4, DisableCompression: true},
		},
	}
	c.record = record{c: c, root: api.Root, files: c.log}
	if err := c.hello(ctx); err != nil {
		c.Close()
		if ctx.Err() == nil && errors.Is(err, ErrLost) {
			return nil, socket.ErrNotRunning
		}
		return nil, err
	}
	return c, nil
}

// hello returns an error if the project does not answer, or has another version of the contract.
func (c *Client) hello(ctx context.Context) error {
	var h api.Hello
	if err := c.get(ctx, "/hello", nil, &h); err != nil {
		return err
	}
	if h.Version != api.Version {
		return fmt.Errorf(
			"the project is run by another version of omnivigil: it speaks version %d of the socket, this one %d; "+
				"use that one, or end the project first",
			h.Version,
			api.Version,
		)
	}
	return nil
}

// Socket is the path of the project's socket.
func (c *Client) Socket() string { return c.socket }

// Close closes idle connections.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// ask sends a request and returns the answer's body, or the error in it.
func (c *Client) ask(ctx context.Context, method, path string, query url.Values, body any) (io.ReadCloser, error) {
	var in io.Reader
	if body != nil {
		data, err := json.Marshal(body)
		if err != nil {
			return nil, err
		}
		in = bytes.NewReader(data)
	}
	r, err := http.NewRequestWithContext(ctx, method, "http://omnivigil"+path+"?"+query.Encode(), in)
	if err != nil {
		return nil, err
	}
	if strings.HasSuffix(path, "/lines") {
		r.Header.Set("Accept", api.BulkType)
	}
	answer, err := c.http.Do(r)
	if err != nil {
		return nil, lost(ctx, err)
	}
	if answer.StatusCode == http.StatusOK {
		return answer.Body, nil
	}
	defer answer.Body.Close()
	var t api.Trouble
	if err := json.NewDecoder(answer.Body).Decode(&t); err != nil {
		return nil, fmt.Errorf("the project answers with %s", answer.Status)
	}
	if answer.StatusCode == http.StatusConflict || answer.StatusCode == http.StatusBadRequest {
		return nil, &api.Refusal{Text: t.Error}
	}
	return nil, errors.New(t.Error)
}

// lost returns the meaning of a connection error.
func lost(ctx context.Context, err error) error {
	var foreign *socket.ForeignError
	switch {
	case errors.Is(err, api.ErrSilent):
		return api.ErrSilent
	case errors.As(err, &foreign):
		return foreign
	}
	if ctx.Err() != nil {
		return ctx.Err()
	}
	return fmt.Errorf("%w: %w", ErrLost, err)
}

func (c *Client) get(ctx context.Context, path string, query url.Values, into any) error {
	return c.call(ctx, http.MethodGet, path, query, nil, into)
}

func (c *Client) call(ctx context.Context, method, path string, query url.Values, body, into any) error {
	if method == http.MethodGet {
		return c.again(ctx, func() error { return c.callOnce(ctx, method, path, query, body, into) })
	}
	return c.callOnce(ctx, method, path, query, body, into)
}

func (c *Client) callOnce(ctx context.Context, method, path string, query url.Values, body, into any) error {
	in, err := c.open(ctx, method, path, query, body)
	if err != nil {
		return err
	}
	defer in.Close()
	if err := json.NewDecoder(in).Decode(into); err != nil {
		return lost(ctx, err)
	}
	return nil
}

// Session implements Project.
func (c *Client) Session(_ context.Context, name string) (api.Record, error) {
	root := api.Root + "/sessions/" + url.PathEscape(name)
	return &record{c: c, root: root, files: func() api.Log { return nil }}, nil
}

// Snapshot implements Project.
func (c *Client) Snapshot(ctx context.Context) (*api.Snapshot, error) {
	s := &api.Snapshot{}
	if err := c.get(ctx, api.Root+"/snapshot", nil, s); err != nil {
		return nil, err
	}
	c.see(s)
	return s, nil
}

// see keeps what is known of the project.
func (c *Client) see(s *api.Snapshot) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.newest = s
}

// log returns the log's files if everything published is in them, and otherwise nil.
func (c *Client) log() api.Log {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.Near == nil || c.newest == nil || c.newest.LogProblem != "" {
		return nil
	}
	if c.near == nil {
		c.near = c.Near(c.newest.Project.Logs, c.lastSave, c.asWritten)
	}
	return c.near
}

// lastSave returns the newest save; the zero value: there was none.
func (c *Client) lastSave() api.Save {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.newest == nil || len(c.newest.Saves) == 0 {
		return api.Save{}
	}
	return c.newest.Saves[len(c.newest.Saves)-1]
}

func (c *Client) asWritten(unit string) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	u := c.newest.Unit(unit)
	return u != nil && u.AsWritten
}

// Follow implements Project.
func (c *Client) Follow(ctx context.Context, face api.Face, show func(*api.Snapshot) error) error {
	return c.again(ctx, func() error { return c.follow(ctx, face, show) })
}

func (c *Client) follow(ctx context.Context, face api.Face, show func(*api.Snapshot) error) error {
	var snap *api.Snapshot
	err := c.events(ctx, api.Root+"/follow", api.Encode(&face), func(name string, data []byte) error {
		switch name {
		case "snapshot":
			snap = &api.Snapshot{}
			if err := json.Unmarshal(data, snap); err != nil {
				return err
			}
			if err := c.sameSession(snap); err != nil {
				return err
			}
		case "change":
			if snap == nil {
				return errors.New("a change came before a snapshot")
			}
			u := &api.Update{}
			if err := json.Unmarshal(data, u); err != nil {
				return err
			}
			snap = snap.Apply(u)
		default:
			return nil
		}
		c.see(snap)
		if err := show(snap); err != nil || !snap.Ended {
			return err
		}
		return errOver
	})
	if errors.Is(err, errOver) {
		return nil
	}
	return err
}

// errOver ends reading a complete stream.
var errOver = errors.New("the project has ended")

// Subscribe implements Project.
func (c *Client) Subscribe(ctx context.Context, since int64, hear func(api.Fact) error) error {
	err := c.again(ctx, func() error { return c.subscribe(ctx, &since, hear) })
	if errors.Is(err, errOver) {
		return nil
	}
	return err
}

// subscribe is Subscribe, and moves since.
func (c *Client) subscribe(ctx context.Context, since *int64, hear func(api.Fact) error) error {
	return c.events(ctx, api.Root+"/facts", api.Encode(&api.NumberQuery{Param: "since", Number: *since}),
		func(name string, data []byte) error {
			if name == "gap" {
				return api.ErrGap
			}
			var f api.Fact
			if err := json.Unmarshal(data, &f); err != nil {
				return err
			}
			*since = f.ID
			if err := hear(f); err != nil || f.Kind != api.FactEnded {
				return err
			}
			return errOver
		})
}

// events reads server-sent events until take returns an error or the stream ends, which is ErrLost.
func (c *Client) events(
	ctx context.Context,
	path string,
	query url.Values,
	take func(name string, data []byte) error,
) error {
	body, err := c.open(ctx, http.MethodGet, path, query, nil)
	if err != nil {
		return err
	}
	defer body.Close()
	in := bufio.NewReaderSize(body, 64<<10)
	name := ""
	for {
		line, err := in.ReadBytes('\n')
		if err != nil {
			return lost(ctx, err)
		}
		line = bytes.TrimSuffix(line, []byte("\n"))
		if n, ok := bytes.CutPrefix(line, []byte("event: ")); ok {
			name = string(n)
		}
		if data, ok := bytes.CutPrefix(line, []byte("data: ")); ok {
			if err := take(name, data); err != nil {
				return err
			}
		}
	}
}

// Do implements Project.
func (c *Client) Do(ctx context.Context, r api.Request) (api.Answer, error) {
	var a api.Answer
	return a, c.call(ctx, http.MethodPost, api.Root+"/requests", nil, r, &a)
}

// Detail implements Project.
func (c *Client) Detail(ctx context.Context, unit string) (api.Detail, error) {
	var d api.Detail
	return d, c.get(ctx, api.Root+"/unit", url.Values{"name": {unit}}, &d)
}

// Explain implements Project.
func (c *Client) Explain(ctx context.Context, unit string) (api.Explanation, error) {
	var e api.Explanation
	return e, c.get(ctx, api.Root+"/explanation", url.Values{"name": {unit}}, &e)
}

// History implements Project.
func (c *Client) History(ctx context.Context, q past.Query) (h past.History, err error) {
	return h, c.get(ctx, api.Root+"/history", api.Encode(&api.HistoryQuery{Query: q}), &h)
}

// Observations implements Project.
func (c *Client) Observations(ctx context.Context, units []string) (api.Observations, error) {
	var o api.Observations
	return o, c.get(ctx, api.Root+"/observations", api.Encode(&api.UnitsQuery{Units: units}), &o)
}

// Why implements Project.
func (c *Client) Why(ctx context.Context, path string) (api.Impact, error) {
	var f api.Impact
	return f, c.get(ctx, api.Root+"/why", url.Values{"path": {path}}, &f)
}

// Wait implements Project.
func (c *Client) Wait(ctx context.Context, q api.WaitQuery) (api.Waited, error) {
	var w api.Waited
	return w, c.get(ctx, api.Root+"/wait", api.Encode(&q), &w)
}

// Screen implements Project.
func (c *Client) Screen(ctx context.Context, unit string) (api.Screen, error) {
	var screen api.Screen
	err := c.get(ctx, api.Root+"/screen", url.Values{"unit": {unit}}, &screen)
	return screen, err
}

// FollowScreen implements Project.
func (c *Client) FollowScreen(ctx context.Context, q api.ScreenQuery, show func(api.Screen) error) error {
	return c.again(ctx, func() error { return c.followScreen(ctx, q, show) })
}

func (c *Client) followScreen(ctx context.Context, q api.ScreenQuery, show func(api.Screen) error) error {
	in, err := c.open(ctx, http.MethodGet, api.Root+"/screen/follow", api.Encode(&q), nil)
	if err != nil {
		return err
	}
	defer in.Close()
	all := json.NewDecoder(bufio.NewReaderSize(in, 64<<10))
	for all.More() {
		var screen api.Screen
		if err := all.Decode(&screen); err != nil {
			return lost(ctx, err)
		}
		if err := show(screen); err != nil {
			return err
		}
	}
	return ctx.Err()
}

// Input implements Project.
func (c *Client) Input(ctx context.Context, in api.Input) error {
	var done struct{}
	return c.call(ctx, http.MethodPost, api.Root+"/input", nil, in, &done)
}
