package api

import (
	"bufio"
	"bytes"
	"context"
	"encoding/gob"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync"
	"time"
)

// Client is a project that runs in another process.
type Client struct {
	// Near returns a log that is read from its files, with what tells its newest save. Nil:
	// the other process is asked for lines.
	Near func(folder string, lastSave func() int) Log

	// Patient waits for the project for as long as it takes, also where it is silent: see ErrSilent.
	Patient bool

	http   http.Client
	guard  guard
	socket string

	mu     sync.Mutex
	newest *Snapshot // that was seen
	near   Log
}

var _ Project = (*Client)(nil)

// ErrNotRunning says that no project runs at a place.
var ErrNotRunning = errors.New("the project is not running")

// ErrLost says that the supervisor is gone without having ended the project.
var ErrLost = errors.New("the process that runs the project is gone")

// Connect returns the project that runs at a place. It returns ErrNotRunning where none
// does, and an error in words where it speaks another version of the contract.
func Connect(ctx context.Context, at Place) (*Client, error) {
	if errors.Is(at.trusted(), ErrNotRunning) { // in another environment, perhaps
		at = at.listening()
	}
	dial := func(ctx context.Context, _, _ string) (net.Conn, error) { return at.dial(ctx) }
	c := &Client{
		socket: at.Socket,
		http: http.Client{
			Transport: &http.Transport{DialContext: dial, MaxIdleConnsPerHost: 4, DisableCompression: true},
		},
	}
	var h hello
	if err := c.get(ctx, "/hello", nil, &h); err != nil {
		c.Close()
		if ctx.Err() == nil && errors.Is(err, ErrLost) {
			return nil, ErrNotRunning
		}
		return nil, err
	}
	if h.Version != Version {
		c.Close()
		return nil, fmt.Errorf(
			"the project is run by another version of omnivigil: it speaks version %d of the socket, this one %d; use that one, or end the project first",
			h.Version,
			Version,
		)
	}
	return c, nil
}

// Socket is the path of the socket that the project listens on.
func (c *Client) Socket() string { return c.socket }

// Close ends connections that nothing waits on.
func (c *Client) Close() { c.http.CloseIdleConnections() }

// ask sends a request and returns the answer's body, or the error that it tells.
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
	if path == root+"/lines" {
		r.Header.Set("Accept", bulkType)
	}
	answer, err := c.http.Do(r)
	if err != nil {
		return nil, lost(ctx, err)
	}
	if answer.StatusCode == http.StatusOK {
		return answer.Body, nil
	}
	defer answer.Body.Close()
	var t trouble
	if err := json.NewDecoder(answer.Body).Decode(&t); err != nil {
		return nil, fmt.Errorf("the project answers with %s", answer.Status)
	}
	if answer.StatusCode == http.StatusConflict {
		return nil, &Refusal{t.Error}
	}
	return nil, problem{answer.StatusCode, t.Error}
}

// lost is what an error of the connection means.
func lost(ctx context.Context, err error) error {
	var foreign *ForeignError
	switch {
	case errors.Is(err, ErrSilent):
		return ErrSilent
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

// Snapshot implements Project.
func (c *Client) Snapshot(ctx context.Context) (*Snapshot, error) {
	s := &Snapshot{}
	if err := c.get(ctx, root+"/snapshot", nil, s); err != nil {
		return nil, err
	}
	c.see(s)
	return s, nil
}

// see notes what is known of the project.
func (c *Client) see(s *Snapshot) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.newest = s
}

// log returns the log's files, where there are any and all that is published is in them, or
// else nil.
func (c *Client) log() Log {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.Near == nil || c.newest == nil || c.newest.LogProblem != "" {
		return nil
	}
	if c.near == nil {
		c.near = c.Near(c.newest.Project.Logs, c.lastSave)
	}
	return c.near
}

// lastSave returns the ripple of the newest save.
func (c *Client) lastSave() int {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.newest == nil || len(c.newest.Saves) == 0 {
		return 0
	}
	return c.newest.Saves[len(c.newest.Saves)-1].Ripple
}

// Follow implements Project.
func (c *Client) Follow(ctx context.Context, face Face, show func(*Snapshot) error) error {
	query := url.Values{"face": {face.Kind}, "pid": {strconv.Itoa(face.PID)}}
	var snap *Snapshot
	err := c.events(ctx, root+"/follow", query, func(name string, data []byte) error {
		switch name {
		case "snapshot":
			snap = &Snapshot{}
			if err := json.Unmarshal(data, snap); err != nil {
				return err
			}
		case "change":
			if snap == nil {
				return errors.New("a change came before a snapshot")
			}
			u := &Update{}
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

// errOver ends the reading of a stream of which no more is to come.
var errOver = errors.New("the project has ended")

// Subscribe implements Project.
func (c *Client) Subscribe(ctx context.Context, since int64, hear func(Fact) error) error {
	query := url.Values{"since": {strconv.FormatInt(since, 10)}}
	err := c.events(ctx, root+"/facts", query, func(name string, data []byte) error {
		if name == "gap" {
			return ErrGap
		}
		var f Fact
		if err := json.Unmarshal(data, &f); err != nil {
			return err
		}
		if err := hear(f); err != nil || f.Kind != FactEnded {
			return err
		}
		return errOver
	})
	if errors.Is(err, errOver) {
		return nil
	}
	return err
}

// events reads server-sent events until take has an error or the stream ends, which is
// ErrLost.
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
func (c *Client) Do(ctx context.Context, r Request) (Answer, error) {
	var a Answer
	return a, c.call(ctx, http.MethodPost, root+"/requests", nil, r, &a)
}

// Cases implements Project.
func (c *Client) Cases(ctx context.Context, q ResultQuery) (CasePage, error) {
	var p CasePage
	return p, c.call(ctx, http.MethodGet, root+"/cases", q.values(), nil, &p)
}

// Case implements Project.
func (c *Client) Case(ctx context.Context, unit string, name CaseName) (Case, error) {
	var out Case
	query := url.Values{"unit": {unit}, "suite": {name.Suite}, "name": {name.Name}}
	return out, c.call(ctx, http.MethodGet, root+"/case", query, nil, &out)
}

// Findings implements Project.
func (c *Client) Findings(ctx context.Context, q ResultQuery) (FindingPage, error) {
	var p FindingPage
	return p, c.call(ctx, http.MethodGet, root+"/findings", q.values(), nil, &p)
}

// Detail implements Project.
func (c *Client) Detail(ctx context.Context, unit string) (Detail, error) {
	var d Detail
	return d, c.get(ctx, root+"/unit", url.Values{"name": {unit}}, &d)
}

// Samples implements Project.
func (c *Client) Samples(ctx context.Context, from int64) (SamplePage, error) {
	var p SamplePage
	return p, c.get(ctx, root+"/samples", url.Values{"from": {strconv.FormatInt(from, 10)}}, &p)
}

// values is the query as it is sent.
func (q ResultQuery) values() url.Values {
	return url.Values{
		"unit":  q.Units,
		"only":  {q.Only},
		"text":  {q.Text},
		"by":    {q.By},
		"from":  {strconv.Itoa(q.From)},
		"count": {strconv.Itoa(q.Count)},
	}
}

// Lines implements Project.
func (c *Client) Lines(ctx context.Context, q LineQuery) (Page, error) {
	if log := c.log(); log != nil {
		if p, err := log.Lines(ctx, q); readable(err) {
			return p, err
		}
	}
	query := url.Values{}
	set := func(name, value string, given bool) {
		if given {
			query.Set(name, value)
		}
	}
	set("filter", q.Filter, q.Filter != "")
	set("move", strconv.Itoa(q.Move), q.Move != 0)
	set("unit", q.Unit, q.Unit != "")
	set("count", strconv.Itoa(q.Count), q.Count > 0)
	set("from", strconv.FormatInt(q.From, 10), q.From > 0)
	set("last", "true", q.Last)
	set("end", strconv.FormatInt(q.End, 10), q.End > 0)
	set("fold", "true", q.Fold)
	set("until", q.Until.Format(time.RFC3339Nano), !q.Until.IsZero())
	set("since", q.Since.Format(time.RFC3339Nano), !q.Since.IsZero())
	set("run", strconv.Itoa(q.Run), q.Run > 0)
	set("why", "true", q.Why)
	var p Page
	in, err := c.open(ctx, http.MethodGet, root+"/lines", query, nil)
	if err != nil {
		return p, err
	}
	defer in.Close()
	if err := gob.NewDecoder(in).Decode(&p); err != nil {
		return p, lost(ctx, err)
	}
	return p, nil
}

// readable reports whether an error is none of reading files that cannot be read here.
func readable(err error) bool {
	var file *fs.PathError
	return !errors.As(err, &file)
}

// Search implements Project.
func (c *Client) Search(ctx context.Context, q SearchQuery, found func(Found) error) error {
	if log := c.log(); log != nil {
		if err := log.Search(ctx, q, found); readable(err) {
			return err
		}
	}
	query := url.Values{
		"pattern": {
			q.Pattern,
		},
		"filter": {q.Filter},
		"from":   {strconv.FormatInt(q.From, 10)},
		"back":   {strconv.FormatBool(q.Back)},
		"most":   {strconv.Itoa(q.Most)},
		"count":  {strconv.FormatBool(q.Count)},
	}
	in, err := c.open(ctx, http.MethodGet, root+"/search", query, nil)
	if err != nil {
		return err
	}
	defer in.Close()
	for d := json.NewDecoder(in); ; {
		var f Found
		if err := d.Decode(&f); err != nil {
			return lost(ctx, err)
		}
		if err := found(f); err != nil || f.Done {
			return err
		}
	}
}

// Text implements Project.
func (c *Client) Text(ctx context.Context, from, end int64, w io.Writer) (int64, error) {
	if log := c.log(); log != nil {
		var err error
		if from, err = log.Text(ctx, from, end, w); readable(err) {
			return from, err
		}
	}
	query := url.Values{"from": {strconv.FormatInt(from, 10)}, "end": {strconv.FormatInt(end, 10)}}
	in, err := c.open(ctx, http.MethodGet, root+"/text", query, nil)
	if err != nil {
		return from, err
	}
	defer in.Close()
	for r := bufio.NewReaderSize(in, 64<<10); ; from++ {
		line, err := r.ReadBytes('\n')
		if err == io.EOF {
			return from, nil
		}
		if err != nil {
			return from, lost(ctx, err)
		}
		if _, err := w.Write(line); err != nil {
			return from, err
		}
	}
}

// Why implements Project.
func (c *Client) Why(ctx context.Context, path string) (Impact, error) {
	var f Impact
	return f, c.get(ctx, root+"/why", url.Values{"path": {path}}, &f)
}

// Wait implements Project.
func (c *Client) Wait(ctx context.Context, q WaitQuery) (Waited, error) {
	query := url.Values{"unit": q.Units}
	if q.Timeout > 0 {
		seconds, _ := q.Timeout.MarshalJSON()
		query.Set("timeout", strings.TrimSpace(string(seconds)))
	}
	var w Waited
	return w, c.get(ctx, root+"/wait", query, &w)
}

// FollowLines calls take with the lines that are asked for and then with those that come,
// until the project has ended and all are told, or take has an error, or the context is
// done.
func FollowLines(ctx context.Context, p Project, q LineQuery, take func([]Line) error) error {
	next := int64(-1)
	catchUp := func() error {
		for {
			page, err := p.Lines(ctx, q)
			if err != nil {
				return err
			}
			if len(page.Lines) == 0 {
				if next < 0 {
					next = page.Total
					q = LineQuery{Filter: q.Filter, Unit: q.Unit, Count: MaxLines, From: next}
				}
				return nil
			}
			if err := take(page.Lines); err != nil {
				return err
			}
			next = page.End
			q = LineQuery{Filter: q.Filter, Unit: q.Unit, Count: MaxLines, From: next}
		}
	}
	if err := catchUp(); err != nil {
		return err
	}
	lines := int64(-1)
	return p.Follow(ctx, Face{}, func(s *Snapshot) error {
		if s.Lines == lines && !s.Ended {
			return nil
		}
		lines = s.Lines
		return catchUp()
	})
}
