package server

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
	"omnivigil/internal/api/client"
	"omnivigil/internal/api/past"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/text/location"
)

// still is a project in which nothing happens.
type still struct {
	screens  []api.ScreenQuery
	inputs   []api.Input
	snaps    []*api.Snapshot
	facts    []api.Fact
	asked    []api.Request
	waited   api.WaitQuery
	lines    []api.LineQuery
	searches []api.SearchQuery
	results  []api.ResultQuery
	hangs    atomic.Bool // its loop hangs
}

func (p *still) Snapshot(context.Context) (*api.Snapshot, error) { return p.snaps[0], nil }
func (p *still) Follow(_ context.Context, _ api.Face, show func(*api.Snapshot) error) error {
	for _, s := range p.snaps {
		if err := show(s); err != nil {
			return err
		}
	}
	return nil
}

// Beats implements Project.
func (p *still) Beats(ctx context.Context, beat func() error) error {
	for ctx.Err() == nil && !p.hangs.Load() {
		if err := beat(); err != nil {
			return err
		}
		time.Sleep(time.Millisecond)
	}
	<-ctx.Done()
	return ctx.Err()
}

func (p *still) Subscribe(_ context.Context, since int64, hear func(api.Fact) error) error {
	if since < 3 {
		return api.ErrGap
	}
	for _, f := range p.facts {
		if err := hear(f); err != nil {
			return err
		}
	}
	return nil
}
func (p *still) Do(_ context.Context, r api.Request) (api.Answer, error) {
	p.asked = append(p.asked, r)
	if r.Action == api.Stop {
		return api.Answer{}, api.Refuse("there is no unit tide")
	}
	return api.Answer{Ripple: 7}, nil
}
func (p *still) Lines(_ context.Context, q api.LineQuery) (api.Page, error) {
	p.lines = append(p.lines, q)
	return api.Page{From: 1, Total: 2, Lines: []api.Line{{Number: 1, Text: "<high> water"}}}, nil
}
func (p *still) Search(_ context.Context, q api.SearchQuery, found func(api.Found) error) error {
	p.searches = append(p.searches, q)
	if err := found(api.Found{Matches: 1, Lines: []api.Line{{Text: "high"}}}); err != nil {
		return err
	}
	return found(api.Found{Matches: 2, Done: true})
}
func (p *still) Text(_ context.Context, q api.TextQuery, w io.Writer) (int64, error) {
	io.WriteString(w, strings.Repeat("12:04:31.000 tides  high\n", int(q.End-q.From)))
	return q.End, nil
}
func (p *still) Cases(_ context.Context, q api.ResultQuery) (api.CasePage, error) {
	p.results = append(p.results, q)
	return api.CasePage{
		From:  q.From,
		Total: 9,
		Cases: []api.Case{{Unit: "harbour", Name: "TestTide", Status: api.CaseFailed, Took: api.Seconds(time.Second)}},
	}, nil
}
func (p *still) Case(_ context.Context, unit string, name api.CaseName) (api.Case, error) {
	if name.Name == "" {
		return api.Case{}, api.Refuse("nothing is known of a test")
	}
	return api.Case{
		Unit:     unit,
		Suite:    name.Suite,
		Name:     name.Name,
		Output:   []string{"low"},
		Location: location.Location{File: "/tide.go", Line: 8},
	}, nil
}
func (p *still) Findings(_ context.Context, q api.ResultQuery) (api.FindingPage, error) {
	p.results = append(p.results, q)
	return api.FindingPage{
		Total:    1,
		Findings: []api.Finding{{Unit: "lint", Severity: api.SeverityWarning, Message: "<spare>"}},
	}, nil
}
func (p *still) Detail(_ context.Context, unit string) (api.Detail, error) {
	if unit != "tides" {
		return api.Detail{}, api.Refuse("there is no unit %q", unit)
	}
	return api.Detail{
		Unit:      unit,
		Settings:  []api.Setting{{Name: "run", Text: "./tides"}},
		Variables: []api.Variable{{Name: "PORT", Value: "4102", From: ".env"}},
	}, nil
}
func (p *still) VerdictAt(_ context.Context, q api.VerdictQuery) (api.PastVerdict, error) {
	return api.PastVerdict{At: q.At, Verdict: api.Verdict{Word: api.VerdictStale}, Turned: q.Turned}, nil
}
func (p *still) Session(_ context.Context, name string) (api.Record, error) {
	if name != "20300504-120431.000" {
		return nil, api.Refuse("the session %s is not kept", name)
	}
	return &still{snaps: []*api.Snapshot{{Project: api.About{Session: name}}}}, nil
}
func (p *still) Changes(_ context.Context, q changes.Query) (changes.Changes, error) {
	return changes.Changes{Files: []changes.File{{Path: q.Unit, Added: q.Ripple}}}, nil
}
func (p *still) Counts(_ context.Context, q api.CountQuery) (api.Counts, error) {
	columns := []api.Count{{At: q.From, Lines: q.Columns, Errors: len(q.Units)}}
	return api.Counts{Columns: columns, Known: 3, Total: 5}, nil
}
func (p *still) Explain(_ context.Context, unit string) (api.Explanation, error) {
	return api.Explanation{Unit: unit, Failure: &api.Failure{
		Unit: "fares", How: "failed: exit 1", Excerpts: []api.Excerpt{{Message: "<bad>"}},
		Remedies: []api.Remedy{{Text: "restart it now", Action: api.Restart}},
	}}, nil
}
func (p *still) Observations(_ context.Context, units []string) (api.Observations, error) {
	return api.Observations{Units: []api.Observation{{Unit: units[0], Lists: []string{"cmd"}}}}, nil
}
func (p *still) History(_ context.Context, q past.Query) (past.History, error) {
	return past.History{From: q.Since, More: q.Count == 7, Runs: []past.Run{{
		Unit: q.Units[0], Outcome: string(q.What), Took: api.Seconds(time.Second),
		Revision: past.Revision{Branch: q.Branch, Clean: new(false)},
	}}}, nil
}
func (p *still) Samples(_ context.Context, from int64) (api.SamplePage, error) {
	return api.SamplePage{Samples: []api.Sample{{Unit: "tides", CPU: 0.5, Memory: 4096, Output: 7}}, Next: from + 1},
		nil
}
func (p *still) Screen(_ context.Context, unit string) (api.Screen, error) {
	if unit != "tides" {
		return api.Screen{}, api.Refuse("there is no unit %q", unit)
	}
	return api.Screen{
		Unit: unit,
		Run:  1,
		Size: api.Size{Cols: 80, Rows: 24},
		Lines: []api.ScreenLine{
			{Row: 1, Parts: []api.Cells{{Text: "<high>", Width: 6, Style: api.Style{Foreground: "1", Bold: true}}}},
		},
	}, nil
}
func (p *still) FollowScreen(_ context.Context, q api.ScreenQuery, show func(api.Screen) error) error {
	p.screens = append(p.screens, q)
	if q.Hand && !q.Take {
		return api.Refuse("another face types into it")
	}
	if err := show(api.Screen{Number: 1, Hand: &q.Face,
		Ask: &api.Ask{Kind: api.AskLine, Text: "migrate?"}}); err != nil {
		return err
	}
	return show(api.Screen{Number: 2, Ended: true})
}
func (p *still) Input(_ context.Context, in api.Input) error {
	p.inputs = append(p.inputs, in)
	if in.Unit == "" {
		return api.Refuse("which unit?")
	}
	return nil
}
func (p *still) Why(_ context.Context, path string) (api.Impact, error) {
	return api.Impact{Path: path}, nil
}
func (p *still) Wait(ctx context.Context, q api.WaitQuery) (api.Waited, error) {
	if slices.Contains(q.Units, "for ever") {
		<-ctx.Done()
		return api.Waited{}, ctx.Err()
	}
	p.waited = q
	return api.Waited{OK: true, Took: api.Seconds(1500 * time.Millisecond)}, nil
}

// at returns a client of a project that is served in this process.
func at(t testing.TB, p api.Project) *client.Client {
	t.Helper()
	file := filepath.Join(t.TempDir(), "omnivigil.toml")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	place, err := socket.PlaceOf(file, "", t.TempDir(), t.TempDir())
	require.NoError(t, err)
	_, err = client.Connect(t.Context(), place)
	require.ErrorIs(t, err, socket.ErrNotRunning)
	lock, err := place.TryLock()
	require.NoError(t, err)
	t.Cleanup(func() { lock.Close() })
	_, err = place.TryLock()
	require.ErrorIs(t, err, socket.ErrLocked)
	l, err := place.Listen()
	require.NoError(t, err)
	server := NewServer(p, "20300504.1")
	go server.Serve(l)
	t.Cleanup(server.Close)
	c, err := client.Connect(t.Context(), place)
	require.NoError(t, err)
	t.Cleanup(c.Close)
	return c
}

// TestThroughTheSocket carries every call of the contract there and back.
func TestThroughTheSocket(t *testing.T) {
	when := time.Date(2030, 5, 4, 12, 4, 31, 123456789, time.UTC)
	p := &still{
		snaps: []*api.Snapshot{
			{Number: 1, Units: []*api.Unit{{Name: "tides", State: api.Ready,
				Marks: []api.Mark{{At: when, State: api.Ready}}}}},
			{
				Number: 2,
				Units: []*api.Unit{
					{
						Name:  "tides",
						State: api.Crashed,
						Marks: []api.Mark{{At: when, State: api.Ready}, {At: when.Add(1), State: api.Crashed}},
					},
				},
				Status: api.Status{Ended: true},
			},
		},
		facts: []api.Fact{{ID: 4, Kind: api.FactNote, Text: "a\nb"}, {ID: 5, Kind: api.FactEnded}},
	}
	c := at(t, p)
	snap, err := c.Snapshot(t.Context())
	require.NoError(t, err)
	assert.Equal(t, p.snaps[0], snap)

	var last *api.Snapshot
	require.NoError(t, c.Follow(t.Context(), api.Face{Kind: "screen"},
		func(s *api.Snapshot) error { last = s; return nil }))
	assert.Equal(t, p.snaps[1], last)
	failed := errors.New("the face has had enough")
	assert.ErrorIs(t, c.Follow(t.Context(), api.Face{}, func(*api.Snapshot) error { return failed }), failed)

	var heard []api.Fact
	require.NoError(t, c.Subscribe(t.Context(), 3, func(f api.Fact) error { heard = append(heard, f); return nil }))
	assert.Equal(t, p.facts, heard)
	assert.ErrorIs(t, c.Subscribe(t.Context(), 1, func(api.Fact) error { return nil }), api.ErrGap)

	answer, err := c.Do(t.Context(), api.Request{Action: api.Restart, Units: []string{"tides"}})
	require.NoError(t, err)
	assert.Equal(t, api.Answer{Ripple: 7}, answer)
	_, err = c.Do(t.Context(), api.Request{Action: api.Stop})
	var refusal *api.Refusal
	require.ErrorAs(t, err, &refusal)
	assert.Equal(t, "there is no unit tide", refusal.Text)

	detail, err := c.Detail(t.Context(), "tides")
	require.NoError(t, err)
	assert.Equal(t, ".env", detail.Variables[0].From)
	_, err = c.Detail(t.Context(), "tide")
	require.ErrorAs(t, err, &refusal)
	samples, err := c.Samples(t.Context(), 41)
	require.NoError(t, err)
	assert.Equal(
		t,
		api.SamplePage{Samples: []api.Sample{{Unit: "tides", CPU: 0.5, Memory: 4096, Output: 7}}, Next: 42},
		samples,
	)

	about := api.CountQuery{
		Units: []string{"tides"}, From: time.Unix(1900000000, 0).UTC(), Column: api.Seconds(time.Second), Columns: 7,
	}
	counts, err := c.Counts(t.Context(), about)
	require.NoError(t, err)
	assert.Equal(t, api.Counts{Columns: []api.Count{{At: about.From, Lines: 7, Errors: 1}}, Known: 3, Total: 5}, counts)
	then := api.VerdictQuery{At: time.Unix(1900000000, 5).UTC(), Turned: api.TurnedBad}
	was, err := c.VerdictAt(t.Context(), then)
	require.NoError(t, err)
	assert.Equal(t, api.PastVerdict{At: then.At, Verdict: api.Verdict{Word: api.VerdictStale}, Turned: then.Turned}, was)
	earlier, err := c.Session(t.Context(), "20300504-120431.000")
	require.NoError(t, err)
	first, err := earlier.Snapshot(t.Context())
	require.NoError(t, err)
	assert.Equal(t, "20300504-120431.000", first.Project.Session, "each path below sessions/ reads the earlier session")
	was, err = earlier.VerdictAt(t.Context(), then)
	require.NoError(t, err)
	assert.Equal(t, api.VerdictStale, was.Verdict.Word)
	none, err := c.Session(t.Context(), "yesterday")
	require.NoError(t, err)
	_, err = none.Lines(t.Context(), api.LineQuery{})
	require.ErrorContains(t, err, "the session yesterday is not kept")
	_, err = c.VerdictAt(t.Context(), api.VerdictQuery{Turned: "blue"})
	require.ErrorContains(t, err, `turned must be bad or good, not "blue"`)
	changed, err := c.Changes(t.Context(), changes.Query{Ripple: 7, Unit: "tides"})
	require.NoError(t, err)
	assert.Equal(t, []changes.File{{Path: "tides", Added: 7}}, changed.Files)
	asked := past.Query{What: past.Runs, Units: []string{"tides"}, Since: then.At, Branch: "main", Count: 7}
	history, err := c.History(t.Context(), asked)
	require.NoError(t, err)
	want, err := p.History(t.Context(), asked)
	require.NoError(t, err)
	assert.Equal(t, want, history)
	_, err = c.History(t.Context(), past.Query{What: "wishes", Units: []string{"tides"}})
	require.ErrorContains(t, err, `what must be units, runs, ripples, tests, trends, days or sessions, not "wishes"`)
	why, err := c.Explain(t.Context(), "tides")
	require.NoError(t, err)
	assert.Equal(t, "<bad>", why.Failure.Excerpts[0].Message)
	_, err = c.Explain(t.Context(), "")
	require.ErrorContains(t, err, "name is missing")

	screen, err := c.Screen(t.Context(), "tides")
	require.NoError(t, err)
	assert.Equal(
		t,
		api.Cells{Text: "<high>", Width: 6, Style: api.Style{Foreground: "1", Bold: true}},
		screen.Lines[0].Parts[0],
	)
	_, err = c.Screen(t.Context(), "tide")
	require.ErrorAs(t, err, &refusal)
	wants := api.ScreenQuery{Unit: "tides", Face: api.Face{Kind: "screen", PID: 7}, Hand: true,
		Size: api.Size{Cols: 158, Rows: 44}}
	require.ErrorAs(t, c.FollowScreen(t.Context(), wants, nil), &refusal)
	wants.Take = true
	var shown []api.Screen
	require.NoError(
		t,
		c.FollowScreen(t.Context(), wants, func(s api.Screen) error { shown = append(shown, s); return nil }),
	)
	assert.Equal(
		t,
		[]api.Screen{{Number: 1, Hand: &wants.Face, Ask: &api.Ask{Kind: api.AskLine, Text: "migrate?"}},
			{Number: 2, Ended: true}},
		shown,
	)
	assert.Equal(t, wants, p.screens[1])
	input := api.Input{
		Unit:  "tides",
		Face:  7,
		Size:  &api.Size{Cols: 80, Rows: 24},
		Text:  "yes\n",
		Paste: true,
		Keys:  []string{"ctrl+c"},
		Mouse: &api.Mouse{Does: "press", Button: "left", Col: 1, Row: 2, Alt: true},
		Focus: "in",
	}
	require.NoError(t, c.Input(t.Context(), input))
	assert.Equal(t, []api.Input{input}, p.inputs)
	require.ErrorAs(t, c.Input(t.Context(), api.Input{}), &refusal)

	sq := api.SearchQuery{Pattern: "/hi+gh/", Filter: "unit=tides !low", From: 7, Back: true, Most: 3, Count: true,
		Raw: true}
	var found []api.Found
	require.NoError(t, c.Search(t.Context(), sq, func(f api.Found) error { found = append(found, f); return nil }))
	assert.Equal(t, []api.SearchQuery{sq}, p.searches)
	assert.Equal(t, []api.Found{{Matches: 1, Lines: []api.Line{{Text: "high"}}}, {Matches: 2, Done: true}}, found)
	var text strings.Builder
	next, err := c.Text(t.Context(), api.TextQuery{From: 3, End: 5}, &text)
	require.NoError(t, err)
	assert.EqualValues(t, 5, next)
	assert.Equal(t, "12:04:31.000 tides  high\n12:04:31.000 tides  high\n", text.String())

	q := api.LineQuery{
		Filter: "!low",
		Move:   -2,
		Unit:   "tides",
		Count:  5,
		From:   9,
		Last:   true,
		Until:  when,
		Since:  when,
		Run:    3,
		Why:    true,
		End:    12,
		Fold:   true,
		Raw:    true,
	}
	page, err := c.Lines(t.Context(), q)
	require.NoError(t, err)
	assert.Equal(t, []api.LineQuery{q}, p.lines)
	assert.Equal(t, "<high> water", page.Lines[0].Text)

	waited, err := c.Wait(t.Context(), api.WaitQuery{Units: []string{"a", "b"},
		Timeout: api.Seconds(2500 * time.Millisecond)})
	require.NoError(t, err)
	assert.Equal(t, api.Seconds(1500*time.Millisecond), waited.Took)
	assert.Equal(t, api.WaitQuery{Units: []string{"a", "b"}, Timeout: api.Seconds(2500 * time.Millisecond)}, p.waited)

	f, err := c.Why(t.Context(), "a b&c.go")
	require.NoError(t, err)
	assert.Equal(t, "a b&c.go", f.Path)
}

// TestBadRequests are answered with an explanation and a status.
func TestBadRequests(t *testing.T) {
	s := NewServer(&still{snaps: []*api.Snapshot{{}}}, "20300504.1")
	for _, test := range []struct {
		method, path, body, header string
		status                     int
		says                       string
	}{
		{"GET", "/v1/snapshot", "", "", 404, "there is no GET /v1/snapshot in version 2"},
		{"DELETE", "/v2/snapshot", "", "", 404, "there is no DELETE"},
		{"POST", "/v2/requests", "restart", "", 400, "the body must be JSON such as {\"action\""},
		{"POST", "/v2/requests", `{"action":"stop","unit":"a"}`, "", 400, "unknown field"},
		{"POST", "/v2/requests", `{"action":"` + strings.Repeat("x", maxBody) + `"}`, "", 413,
			"the request is too large: its body has at most 1048576 bytes"},
		{"POST", "/v2/requests", `{"action":"stop","units":["a"` + strings.Repeat(`,"a"`, maxUnits) + `]}`, "", 400,
			"a request for 10001 units is too large: it has at most 10000"},
		{"POST", "/v2/input", `{"unit":"a","text":"` + strings.Repeat("x", maxBody) + `"}`, "", 413,
			"the request is too large"},
		{"GET", "/v2/screen/follow?unit=a&cols=1000&rows=1000", "", "", 400,
			"a terminal of 1000 columns and 1000 rows is too large: it has at most 1000 of each, and 250000 cells"},
		{"GET", "/v2/screen/follow?unit=a&cols=5000&rows=1", "", "", 400, "a terminal of 5000 columns"},
		{"GET", "/v2/lines?count=many", "", "", 400, `count must be a whole number, not "many"`},
		{"GET", "/v2/lines?count=100000", "", "", 400, "count must be at most 5000"},
		{"GET", "/v2/lines?until=noon", "", "", 400, "until must be a time such as"},
		{"GET", "/v2/lines?last=yes", "", "", 400, "last must be true or false"},
		{"GET", "/v2/lines/follow?from=-1", "", "", 400, "from must be a whole number"},
		{"GET", "/v2/wait?timeout=soon", "", "", 400, "timeout must be a number of seconds"},
		{"POST", "/v2/requests", `{"action":"stop"} {}`, "", 400, "something comes after it"},
		{"GET", "/v2/cases?units=a", "", "", 400, `there is no parameter "units"; there are `},
		{"GET", "/v2/why", "", "", 400, "path is missing"},
		{"GET", "/v2/unit", "", "", 400, "name is missing"},
		{"GET", "/v2/facts?since=x", "", "", 400, "since must be a whole number"},
		{"GET", "/v2/facts", "", "20290101.1.17", 200, "event: gap"},
		{"GET", "/v2/facts", "", "20300504.1.3", 200, ""},
	} {
		r := httptest.NewRequest(test.method, test.path, strings.NewReader(test.body))
		if test.header != "" {
			r.Header.Set("Last-Event-ID", test.header)
		}
		w := httptest.NewRecorder()
		s.handler().ServeHTTP(w, r)
		assert.Equal(t, test.status, w.Code, test.path)
		text := w.Body.String()
		if test.status != 200 {
			var told api.Trouble
			require.NoError(t, json.Unmarshal(w.Body.Bytes(), &told), test.path)
			text = told.Error
		}
		assert.Contains(t, text, test.says)
	}
}

// TestOtherVersion tells a face that another version of omnivigil runs the project.
func TestOtherVersion(t *testing.T) {
	folder := t.TempDir()
	l, err := net.Listen("unix", folder+"/s")
	require.NoError(t, err)
	server := http.Server{Handler: http.HandlerFunc(func(w http.ResponseWriter,
		_ *http.Request) {
		fmt.Fprint(w, `{"version":99}`)
	})}
	go server.Serve(l)
	defer server.Close()
	_, err = client.Connect(t.Context(), socket.Place{Socket: folder + "/s"})
	assert.ErrorContains(t, err, "another version of omnivigil: it speaks version 99 of the socket, this one 2")
}

func FuzzServer(f *testing.F) {
	f.Add("GET", "/v2/lines?unit=a&from=1&since=2030-05-04T12:04:31Z", "", "")
	f.Add("POST", "/v2/requests", `{"action":"restart","units":["a"]}`, "")
	f.Add("GET", "/v2/facts", "", "20300504.1.3")
	f.Add("GET", "/v2/wait?timeout=1e308&unit=", "", "")
	s := NewServer(&still{snaps: []*api.Snapshot{{}}}, "20300504.1")
	f.Fuzz(func(t *testing.T, method, path, body, id string) {
		r, err := http.NewRequest(method, "http://omnivigil/", strings.NewReader(body))
		if err != nil {
			return
		}
		if r.URL, err = r.URL.Parse(path); err != nil || !strings.HasPrefix(r.URL.Path, "/") {
			return
		}
		r.Header.Set("Last-Event-ID", id)
		w := httptest.NewRecorder()
		s.handler().ServeHTTP(w, r)
		if w.Code >= 400 && w.Code != http.StatusMovedPermanently {
			var told api.Trouble
			require.NoError(t, json.Unmarshal(w.Body.Bytes(), &told))
			require.NotEmpty(t, told.Error)
		}
	})
}

// TestSilence cancels requests to a project whose loop hangs, and reports the silence to a face.
func TestSilence(t *testing.T) {
	p := &still{snaps: []*api.Snapshot{{}}}
	c := at(t, p)
	told := make(chan time.Duration, 100)
	go api.WatchSilence(t.Context(), c, func(silent time.Duration) { told <- silent })
	failed := make(chan error, 1)
	go func() {
		_, err := c.Wait(t.Context(), api.WaitQuery{Units: []string{"for ever"}})
		failed <- err
	}()
	p.hangs.Store(true)
	assert.ErrorIs(t, <-failed, api.ErrSilent)
	assert.Equal(t, api.Silence, <-told)
}

// TestForeign trusts nothing that belongs to another user: a directory that is a link, or has another owner.
func TestForeign(t *testing.T) {
	runtime, elsewhere := t.TempDir(), t.TempDir()
	file := filepath.Join(t.TempDir(), "omnivigil.toml")
	place, err := socket.PlaceOf(file, runtime, t.TempDir(), t.TempDir())
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(filepath.Dir(place.Socket)))
	require.NoError(t, os.Symlink(elsewhere, filepath.Dir(place.Socket)))
	l, err := net.Listen("unix", place.Socket)
	require.NoError(t, err)
	defer l.Close()
	var foreign *socket.ForeignError
	_, err = client.Connect(t.Context(), place)
	require.ErrorAs(t, err, &foreign)
	_, err = place.Listen()
	require.ErrorAs(t, err, &foreign)

	if os.Getuid() != 0 {
		t.Log("only root can make files of others: their directories were not tested")
		return
	}
	require.NoError(t, os.Remove(filepath.Dir(place.Socket)))
	require.NoError(t, os.Mkdir(filepath.Dir(place.Socket), 0o777))
	require.NoError(t, os.Chown(filepath.Dir(place.Socket), 12345, 12345))
	_, err = client.Connect(t.Context(), place)
	require.ErrorAs(t, err, &foreign)
	assert.Contains(t, err.Error(), "belongs to another user")
}
