package tui

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
	"omnivigil/internal/api/past"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/engine/simulate"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/lens"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/reader"
	"omnivigil/internal/plan"
	"omnivigil/internal/session"
	"omnivigil/internal/session/snapshot"
	"omnivigil/internal/session/verdicts"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/location"
)

var update = flag.Bool("update", false, "write the screens into testdata")

// played is a project whose processes are played by a simulated world, with its own clock.
type played struct {
	*simulate.World
	screens      []api.Screen // shown by a terminal, one after the other
	typed        []api.Input
	asks         map[string]api.Ask
	mu           sync.Mutex // guards typed
	book         *logbook.Book
	census       lens.Census
	requests     []string
	cases        []api.Case
	findings     []api.Finding
	detail       api.Detail
	explanation  api.Explanation
	observations api.Observations
	history      map[past.Kind]past.History
	samples      []api.Sample
	past         verdicts.History
	earlier      map[string]*played // sessions
	changed      []changes.File     // by each ripple
	root         string             // the project directory
	m            *root
}

func (p *played) Snapshot(context.Context) (*api.Snapshot, error) {
	p.book.Flush()
	snap := snapshot.Of(p.Engine.Snapshot(), p.World.Plan)
	snap.Lines, snap.Project.Since = p.book.Published(), p.Now.Add(-time.Hour)
	snap.Project.Root = p.root
	snap.Uses = map[string]api.Use{"u0": {Memory: 12 << 20}}
	snap.Asks = p.asks
	snap.Faces = []api.Face{{Kind: view.Kind, PID: os.Getpid()}}
	return snap, nil
}

func (p *played) Session(_ context.Context, name string) (api.Record, error) {
	if e := p.earlier[name]; e != nil {
		return e, nil
	}
	return nil, api.Refuse("the session %s is not kept", name)
}

func (p *played) Changes(context.Context, changes.Query) (changes.Changes, error) {
	if p.changed == nil {
		return changes.Changes{}, api.Refuse("no change of it is kept")
	}
	return changes.Changes{Files: p.changed}, nil
}

func (p *played) Follow(context.Context, api.Face, func(*api.Snapshot) error) error { return nil }
func (p *played) Beats(context.Context, func() error) error                         { return nil }
func (p *played) Subscribe(context.Context, int64, func(api.Fact) error) error      { return nil }
func (p *played) Wait(context.Context, api.WaitQuery) (api.Waited, error)           { return api.Waited{}, nil }
func (p *played) Lines(_ context.Context, q api.LineQuery) (api.Page, error) {
	return reader.Log{Source: p.book, Census: &p.census, LastSave: func() api.Save {
		if p.World == nil || len(p.Engine.Snapshot().Saves) == 0 {
			return api.Save{}
		}
		saves := p.Engine.Snapshot().Saves
		return api.Save{At: saves[len(saves)-1].At.Wall}
	}}.Lines(context.Background(), q)
}
func (p *played) Counts(_ context.Context, q api.CountQuery) (api.Counts, error) {
	if p.book == nil {
		return api.Counts{}, nil
	}
	return reader.Log{Source: p.book, Census: &p.census}.Counts(context.Background(), q)
}
func (p *played) Search(_ context.Context, q api.SearchQuery, found func(api.Found) error) error {
	return reader.Log{Source: p.book}.Search(context.Background(), q, found)
}
func (p *played) Text(_ context.Context, q api.TextQuery, w io.Writer) (int64, error) {
	return reader.Log{Source: p.book}.Text(context.Background(), q, w)
}
func (p *played) Cases(_ context.Context, q api.ResultQuery) (api.CasePage, error) {
	return api.CasePage{
		From:  q.From,
		Total: len(p.cases),
		Cases: p.cases[min(q.From, len(p.cases)):min(q.From+q.Count, len(p.cases))],
	}, nil
}
func (p *played) Case(_ context.Context, unit string, name api.CaseName) (api.Case, error) {
	for _, c := range p.cases {
		if c.Unit == unit && c.Suite == name.Suite && c.Name == name.Name {
			c.Output = []string{"    berths_test.go:9: berths = 4, want 3"}
			return c, nil
		}
	}
	return api.Case{}, api.Refuse("nothing is known of it")
}
func (p *played) Findings(_ context.Context, q api.ResultQuery) (api.FindingPage, error) {
	return api.FindingPage{
		From:     q.From,
		Total:    len(p.findings),
		Findings: p.findings[min(q.From, len(p.findings)):min(q.From+q.Count, len(p.findings))],
	}, nil
}
func (p *played) Detail(_ context.Context, _ string) (api.Detail, error) {
	return p.detail, nil
}
func (p *played) VerdictAt(_ context.Context, q api.VerdictQuery) (api.PastVerdict, error) {
	if v, known := p.past.Find(q); known {
		return v, nil
	}
	return api.PastVerdict{}, api.Refuse("none is known")
}
func (p *played) Explain(_ context.Context, unit string) (api.Explanation, error) {
	e := p.explanation
	snap, err := p.Snapshot(context.Background())
	e.Unit, e.Account = unit, snap.Account(snap.Unit(unit))
	return e, err
}
func (p *played) Observations(context.Context, []string) (api.Observations, error) {
	return p.observations, nil
}
func (p *played) History(_ context.Context, q past.Query) (past.History, error) {
	return p.history[q.What], nil
}
func (p *played) Samples(_ context.Context, from int64) (api.SamplePage, error) {
	return api.SamplePage{Samples: p.samples[min(from, int64(len(p.samples))):], Next: int64(len(p.samples))}, nil
}
func (p *played) Why(_ context.Context, path string) (api.Impact, error) {
	return api.Impact{Path: path, Text: []string{"nothing would act on " + path}}, nil
}
func (p *played) Screen(context.Context, string) (api.Screen, error) { return p.screens[0], nil }
func (p *played) FollowScreen(ctx context.Context, q api.ScreenQuery, show func(api.Screen) error) error {
	for _, screen := range p.screens {
		if q.Hand && screen.Hand == nil {
			screen.Hand = &q.Face
		}
		if err := show(screen); err != nil {
			return err
		}
	}
	<-ctx.Done()
	return ctx.Err()
}
func (p *played) Input(_ context.Context, in api.Input) error {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.typed = append(p.typed, in)
	return nil
}
func (p *played) Do(_ context.Context, r api.Request) (api.Answer, error) {
	if r.Action == api.FaceUsed { // sent with many keys
		return api.Answer{}, nil
	}
	asked := string(r.Action) + " " + strings.Join(r.Units, " ")
	for _, c := range r.Cases {
		asked += " " + c.Name
	}
	if r.Failing {
		asked += " failing"
	}
	p.requests = append(p.requests, strings.TrimSpace(asked))
	switch r.Action {
	case api.WriteCure:
		return api.Answer{}, api.Refuse("the disk is full")
	case api.LeaveRunning:
		return api.Answer{}, nil
	}
	p.Send(engine.Requested{Request: session.RequestFor(r.Action, len(r.Units) > 0), Units: r.Units})
	return api.Answer{}, nil
}

// goRound makes a unit's runs write the unit's own inputs, until the loop is detected.
func (p *played) goRound(unit string) {
	for range 5 {
		p.Save(
			simulate.Saving{Debounce: 150 * time.Millisecond, Vague: true},
			engine.Hit{Unit: unit, Path: "data/" + unit + ".db", What: "written"},
		)
		p.World.Run(12 * time.Second)
	}
}

// play returns a model of n units, every fourth of them a task, after a start, a save, a failure and a crash.
func play(t testing.TB, n, width, height int) (*root, *played) {
	t.Helper()
	return playEarlier(t, 0, n, width, height)
}

// playEarlier is play, so much earlier.
func playEarlier(t testing.TB, by time.Duration, n, width, height int) (*root, *played) {
	t.Helper()
	p := &plan.Plan{Name: "Saltmarsh Ferries"}
	for i := range n {
		u := &plan.Unit{
			Name:  fmt.Sprintf("u%d", i),
			Ready: plan.Ready{After: 300 * time.Millisecond},
			Stop:  plan.Stop{Signal: "TERM", Grace: time.Second},
		}
		if i%4 == 3 {
			u.Kind = plan.Task
		}
		if i%4 == 2 {
			u.Follows = []string{"u0"}
		}
		p.Units = append(p.Units, u)
	}
	fails := map[string]engine.Exit{}
	var w *simulate.World
	w = simulate.NewWorld(p, func(unit string, _ int) simulate.Behavior {
		b := simulate.Behavior{EndsAfter: -1, StopTakes: 20 * time.Millisecond, Exit: fails[unit]}
		if w.Plan.Unit(unit).Kind.Ends() || b.Exit.Code != 0 {
			b.EndsAfter = 1200 * time.Millisecond
		}
		return b
	})
	w.Now = w.Now.Add(-by)
	book := logbook.Open(filepath.Join(t.TempDir(), "log"), logbook.Options{})
	t.Cleanup(func() { book.Close() })
	book.SetClock(func() time.Time { return w.Now })
	project := &played{World: w, book: book}
	w.After = func(_ engine.Event, orders []engine.Order) {
		project.past.Add(w.Now, snapshot.Of(w.Engine.Snapshot(), p).Verdict)
		for _, o := range orders {
			if said, ok := o.(engine.Tell); ok && !said.Quiet() {
				stream := logbook.Note
				if said.Kind == engine.FactRunStarted {
					stream = logbook.Opens
				}
				book.Append(
					logbook.Entry{Unit: said.Unit, Run: said.Run, Stream: stream, Tone: logbook.Tone(said.Tone())},
					explain.Fact(said.Fact),
				)
			}
		}
	}
	w.Send(engine.Begin{})
	w.Run(10 * time.Second)
	save := func(units ...string) {
		var hits []engine.Hit
		for _, u := range units {
			hits = append(hits, engine.Hit{Unit: u, Path: u + "/file.go", What: "written"})
		}
		w.Save(simulate.Saving{Debounce: 100 * time.Millisecond}, hits...)
		w.Run(8 * time.Second)
	}
	save("u0")
	book.Append(
		logbook.Entry{Unit: "u1"},
		"the same",
		"the same",
		"\x1b[31mred\x1b[0m and a line that is far too long for any screen: "+strings.Repeat("word ", 60),
	)
	if n > 3 {
		fails["u3"] = engine.Exit{Code: 2}
		save("u3")
	}
	fails["u1"] = engine.Exit{Code: 3}
	save("u1")
	first, _ := project.Snapshot(t.Context())
	m := newRoot(t.Context(), project, first)
	m.clock = func() time.Time { return w.Now }
	m.Now, m.Span, project.m = w.Now, timeline.FirstSpan, m
	m.handle(tea.WindowSizeMsg{Width: width, Height: height})
	project.see()
	return m, project
}

// see gives the model the current project and log.
func (p *played) see() {
	snap, _ := p.Snapshot(context.Background())
	p.m.settle(snap)
}

// settle lets the model handle a message and every message that results from it.
func (m *root) settle(msg tea.Msg) {
	m.Now = m.clock()
	m.handle(msg)
	for range 30 {
		m.Recall()
		m.screen() // sizes are known only after the first frame
		for _, s := range overview.Of(m.Model).Streams {
			s.Ask(m.Model)
		}
		if a, ok := m.Top().(view.Asker); ok {
			a.Ask(m.Model)
		}
		pending := m.Requests
		m.Requests = nil
		if len(pending) == 0 {
			m.tellEffect()
			return
		}
		for _, cmd := range pending {
			if msg := cmd(); msg != nil {
				m.handle(msg)
			}
		}
	}
}

// keyed presses keys, one after the other.
func (m *root) keyed(keys ...string) {
	for _, k := range keys {
		m.settle(key(k))
	}
}

func (m *root) plainScreen() string {
	rows := m.screen()
	for i, row := range rows {
		rows[i] = strings.TrimRight(escape.Strip(row), " ")
	}
	return strings.Join(rows, "\n") + "\n"
}

// TestScreens draws the main view at several sizes, with few and many units and in other states, and compares it with
// the files in testdata.
func TestScreens(t *testing.T) {
	for _, test := range []struct {
		name                 string
		units, width, height int
		keys                 []string
	}{
		{"rich", 5, 158, 46, nil},
		{"good", 5, 80, 24, nil},
		{"small", 5, 60, 15, nil},
		{"too-small", 5, 30, 5, nil},
		{"many", 50, 100, 30, nil},
		{"help", 5, 100, 50, []string{"?"}},
		{"only-one", 5, 80, 24, []string{"down", "enter", "enter"}},
		{"back-in-time", 5, 80, 24, []string{"[", "["}},
		{"wrapped", 5, 80, 24, []string{"down", "enter", "enter", "\\"}},
		{"why", 5, 100, 24, []string{"down", "y"}},
	} {
		t.Run(test.name, func(t *testing.T) {
			m, _ := play(t, test.units, test.width, test.height)
			m.keyed(test.keys...)
			rows := m.screen()
			require.Len(t, rows, test.height)
			for i, row := range rows {
				assert.LessOrEqual(t, ansi.StringWidth(row), test.width, "row %d", i)
			}
			compareScreen(t, m, test.name)
		})
	}
}

// compareScreen compares the screen with a file in testdata.
func compareScreen(t *testing.T, m *root, name string) {
	t.Helper()
	file := filepath.Join("testdata", name+".txt")
	got := m.plainScreen()
	if *update {
		require.NoError(t, os.MkdirAll("testdata", 0o755))
		require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
	}
	want, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, string(want), got)
}

// TestLoop answers a loop's question by key.
func TestLoop(t *testing.T) {
	m, s := play(t, 5, 100, 24)
	s.goRound("u0")
	s.see()
	assert.Contains(t, m.plainScreen(), "loop stopped  u0 writes data/u0.db itself")
	m.Selected = "u2"
	m.keyed("l")
	assert.Contains(t, m.plainScreen(), `ignore = ["data/u0.db"]`)
	m.keyed("w")
	assert.Contains(t, m.plainScreen(), "the disk is full", "the panel stays, and says why")
	m.keyed("enter")
	s.see()
	assert.NotContains(t, m.plainScreen(), "loop stopped")
	assert.True(t, m.Snap.Unit("u0").Loop.Noted)
	m.Selected = "u0"
	m.keyed("l") // the question can be closed for now
	m.keyed("backspace")
	s.see()
	assert.Nil(t, m.Snap.Unit("u0").Loop)
	assert.Equal(t, []string{"write-cure u0", "keep-ignoring u0", "react-again u0"}, s.requests)
}

// TestTextures requires that every state looks different without color.
func TestTextures(t *testing.T) {
	p := cells.NewPalette(cells.DarkGround, colorprofile.TrueColor)
	seen := map[string]string{}
	for _, state := range []api.State{api.Waiting, api.Setup, api.Starting, api.Ready, api.Running, api.Stopping,
		api.Done, api.Failed, api.Crashed} {
		for _, stale := range []bool{false, true} {
			if stale && state != api.Ready && state != api.Done {
				continue
			}
			glyph, _ := p.Texture(timeline.Cell{State: state, Stale: stale})
			name := fmt.Sprint(state, stale)
			assert.Empty(t, seen[glyph], "%s looks like %s", name, seen[glyph])
			seen[glyph] = name
		}
	}
}

// TestLeaving checks the question that is asked where the project would keep running.
func TestLeaving(t *testing.T) {
	m, s := play(t, 5, 100, 30)
	m.Snap.Faces = append(m.Snap.Faces, api.Face{Kind: "screen", PID: 1})
	assert.Contains(t, m.plainScreen(), "Saltmarsh Ferries  with 1 other screen  12:00")
	m.keyed("q")
	assert.Contains(
		t,
		m.plainScreen(),
		"Saltmarsh Ferries would keep running without this screen,\n  with 1 other screen: process 1",
	)
	m.keyed("esc")
	assert.True(t, m.IsOpen("overview"))
	m.Snap.Faces, m.Snap.Background = nil, true
	m.keyed("q")
	assert.Contains(t, m.plainScreen(), "without this screen,\n  in the background")
	assert.Empty(t, s.requests)
	m.keyed("s")
	assert.Equal(t, []string{"end"}, s.requests)
}

// broken is a view whose drawing panics.
type broken struct{ leaving }

func (*broken) Name() string                        { return "broken" }
func (*broken) Draw(*view.Model, int, int) []string { panic("no rows") }
func (*broken) Update(*view.Model, tea.Msg)         { panic("no update") }

// TestPanicInAView checks that a panic closes the view and is reported, and that the program continues.
func TestPanicInAView(t *testing.T) {
	m, _ := play(t, 5, 100, 30)
	m.Snap.Project.Logs = t.TempDir()
	m.Open(&broken{})
	text := escape.Strip(m.View().Content)
	assert.Contains(t, text, "u0", "the overview is drawn")
	assert.Contains(t, m.plainScreen(), "the broken view failed and was closed")
	report, err := os.ReadFile(filepath.Join(m.Snap.Project.Logs, crashFile))
	require.NoError(t, err)
	assert.Contains(t, string(report), "no rows")
	m.Open(&broken{})
	m.Update(key("x"))
	assert.True(t, m.IsOpen("overview"))
}

func key(text string) tea.KeyPressMsg {
	switch text {
	case "enter":
		return tea.KeyPressMsg{Code: tea.KeyEnter}
	case "esc":
		return tea.KeyPressMsg{Code: tea.KeyEscape}
	case "down":
		return tea.KeyPressMsg{Code: tea.KeyDown}
	case "pgup":
		return tea.KeyPressMsg{Code: tea.KeyPgUp}
	}
	if letter, ok := strings.CutPrefix(text, "ctrl+"); ok {
		return tea.KeyPressMsg{Code: []rune(letter)[0], Mod: tea.ModCtrl}
	}
	return tea.KeyPressMsg{Text: text, Code: []rune(text)[0]}
}

// TestManyUnits checks the lanes' share of the screen, and that the cursor follows the order shown.
func TestManyUnits(t *testing.T) {
	for _, size := range [][2]int{{158, 46}, {80, 24}} {
		m, _ := play(t, 60, size[0], size[1])
		rows := m.screen()
		require.Len(t, rows, size[1])
		body := size[1] - overview.Of(m.Model).Lanes.Top
		assert.GreaterOrEqual(t, m.Height-overview.Of(m.Model).StreamTop-1, body/2-1, "the stream has at least half")
		var seen []string
		m.Selected = "u1" // which has crashed and is therefore first
		for range 59 {
			seen = append(seen, m.Selected)
			m.keyed("down")
			assert.Contains(t, m.plainScreen(), "▸ "+m.Selected+" ")
		}
		assert.Equal(t, []string{"u1", "u3", "u0", "u2", "u4"}, seen[:5])
		assert.Equal(t, "u59", m.Selected)
		m.keyed("!")
		assert.Equal(t, "u1", m.Selected)
		m.keyed("!")
		assert.Equal(t, "u3", m.Selected)

		m.keyed("|")
		m.screen()
		assert.LessOrEqual(t, overview.Of(m.Model).StreamTop-overview.Of(m.Model).Lanes.Top, max(size[1]/4+1, 4))

		m.keyed("f")
		for _, k := range []string{"5", "7"} {
			m.keyed(k)
		}
		assert.Equal(t, "u57", m.Selected)
		assert.NotContains(t, m.plainScreen(), "\n  u1 ")
		assert.Contains(t, m.plainScreen(), `59 more; those with "57" are shown`)
		m.keyed("esc")
		assert.Contains(t, m.plainScreen(), "\n  u1 ")
	}
}

// TestColumns checks that a wide window shows all lanes, and which of them is at a cell of any column.
func TestColumns(t *testing.T) {
	for _, size := range [][2]int{{250, 60}, {160, 76}} {
		m, _ := play(t, 60, size[0], size[1])
		shown, lanes := strings.Split(m.plainScreen(), "\n"), &overview.Of(m.Model).Lanes
		for i := range 60 {
			name := fmt.Sprintf("u%d ", i)
			at := slices.IndexFunc(shown[lanes.Top:], func(row string) bool { return strings.Contains(row, "  "+name) })
			if name == "u0 " { // it is selected
				continue
			}
			require.GreaterOrEqual(t, at, 0, name)
			at += lanes.Top
			u, column := lanes.At(m.Model, ansi.StringWidth(shown[at][:strings.Index(shown[at], "  "+name)])+2, at)
			if assert.NotNil(t, u, name) {
				assert.Equal(t, strings.TrimSpace(name), u.Name)
			}
			assert.Equal(t, 2, column)
		}
	}
}

// TestPast checks that verdict and states are those of the time cursor, and the keys to when the verdict last turned.
func TestPast(t *testing.T) {
	m, s := play(t, 5, 100, 30)
	m.keyed(",")
	m.settle(nil)
	shown := m.plainScreen()
	assert.Regexp(t, `(?m)^  BROKEN     at 12:00:19   u3 failed \(exit 2\) .* now BROKEN *$`, shown)
	assert.Regexp(t, `(?m)^  u1 ready `, shown, "it crashed later")
	assert.Regexp(t, `(?m)^  u3 failed `, shown)
	m.keyed("down", "down", "down", "down")
	require.Equal(t, "u4", m.Selected)
	m.keyed("s")
	assert.Equal(t, []string{"stop u4"}, s.requests, "keys act on what is there now")
	m.keyed(",")
	m.settle(nil)
	assert.Contains(t, m.plainScreen(), "the verdict did not turn bad earlier in this session")
	m.keyed(".")
	assert.Regexp(t, `(?m)^  u1 crashed `, m.plainScreen())
	assert.NotContains(t, m.plainScreen(), "now BROKEN")
	m.keyed(";")
	m.settle(nil)
	assert.Contains(t, m.plainScreen(), "none is known")
	m.keyed("[", "[", "[")
	m.settle(nil)
	assert.Regexp(t, `(?m)^  (CURRENT|UPDATING)     at 12:00:10 `, m.plainScreen())
}

// TestEarlierSessions goes back beyond the session: by scrolling, by time, by saves, and from a ripple.
func TestEarlierSessions(t *testing.T) {
	m, s := play(t, 5, 120, 30)
	began := s.Now.Add(-25 * time.Hour)
	_, e := playEarlier(t, 25*time.Hour, 5, 120, 30)
	s.earlier = map[string]*played{"yesterday": e}
	s.history = map[past.Kind]past.History{past.Sessions: {Sessions: []past.Session{
		{Name: "of once", Began: began.Add(time.Hour), Ended: began.Add(time.Hour), Kept: true, Once: true},
		{Name: "yesterday", Began: began.Add(-time.Minute), Ended: began, Kept: true},
	}}}
	yesterday := func() {
		t.Helper()
		shown := m.plainScreen()
		assert.Regexp(t, `(?m)^  \S+ +at 28 Feb 1[01]:\d\d:\d\d .* now BROKEN *$`, shown)
		assert.Contains(t, shown, "all output, session of 28 Feb 1")
		assert.Contains(t, shown, "╎", "where a time is left out")
		m.keyed(".")
		assert.NotContains(t, m.plainScreen(), "session of")
	}
	m.keyed("g", "pgup")
	yesterday()
	m.keyed("[", "[", "[", "[")
	yesterday()
	m.keyed("-", "-", "-", "-", "-")
	for range 60 {
		if m.keyed("left"); m.Session() != "" {
			break
		}
	}
	yesterday()
	m.keyed(".", "g", "pgup", "g", "pgup")
	assert.Contains(t, m.plainScreen(), "no earlier session is kept")
	for range 30 {
		m.keyed("pgdown")
	}
	assert.NotContains(t, m.plainScreen(), "session of", "scrolling down comes back")

	delete(s.earlier, "yesterday")
	m, s.m = newRoot(t.Context(), s, m.Live), nil
	m.clock = func() time.Time { return s.Now }
	m.settle(tea.WindowSizeMsg{Width: 120, Height: 30})
	m.keyed("g", "pgup")
	assert.Contains(t, m.plainScreen(), "the session yesterday is not kept")
}

// TestLens checks the stream in a flood: kinds of lines that are new since the save, lines of one kind folded, a value
// followed through all units, and the chart.
func TestLens(t *testing.T) {
	m, s := play(t, 5, 158, 46)
	s.book.Append(logbook.Entry{Unit: "u0"}, "berth 1 is free")
	s.World.Run(time.Second)
	s.Save(simulate.Saving{Debounce: 100 * time.Millisecond}, engine.Hit{Unit: "u4", Path: "u4/x.go", What: "written"})
	s.World.Run(2 * time.Second)
	for i := range 30 {
		s.book.Append(logbook.Entry{Unit: "u0"}, fmt.Sprintf("berth %d is free", i))
		s.book.Append(logbook.Entry{Unit: "u2"}, fmt.Sprintf("ERROR order a%d-x7 has no berth", i))
	}
	s.book.Append(logbook.Entry{Unit: "u1"}, `level=info id=a29-x7 msg="order taken"`)
	s.see()
	s.see() // what was written is counted after the next look
	shown := m.plainScreen()
	assert.Regexp(t, `(?m)^\+ .*ERROR order a29-x7`, shown, "new since the save")
	assert.Regexp(t, `(?m)^  .*berth 29 is free`, shown, "not new")
	assert.Regexp(t, `(?m)^  lines .*╱ .*max \d+/s`, shown)
	m.keyed("$")
	shown = m.plainScreen()
	assert.Contains(t, shown, "ERROR order a29-x7 has no berth  (30 similar)")
	assert.Contains(t, shown, "berth 29 is free  (31 similar)")
	m.keyed("$", "\"", "f")
	assert.Contains(t, m.plainScreen(), "lines of all units with a29-x7; backspace shows all again")
	assert.Regexp(t, `(?s)─ with "?a29-x7.*ERROR order a29-x7.*order taken`, m.plainScreen())
	m.keyed("\"", "left", "left", "right", "f")
	assert.Contains(t, m.plainScreen(), "lines of all units with ")
}

// TestOnly checks that the filter of the lanes can become what runs, and that a unit can be muted in the stream.
func TestOnly(t *testing.T) {
	m, s := play(t, 5, 100, 30)
	m.Selections = map[string][]string{"sea": {"u1", "u3", "elsewhere"}}
	saved := map[string][]string{}
	m.SaveSelection = func(name string, units []string) error { saved[name] = units; return nil }
	m.keyed("f", "@", "s", "e", "a", "enter", "ctrl+o")
	command := func(line string) {
		m.keyed(":")
		for _, k := range line {
			m.keyed(string(k))
		}
		m.keyed("enter")
	}
	command("save-selection mine")
	assert.Equal(t, map[string][]string{"mine": {"u1", "u3"}}, saved)
	assert.Contains(t, m.plainScreen(), "saved 2 units as @mine")
	m.keyed("f", "esc", "ctrl+o")
	command("only @sea u2")
	assert.Equal(t, []string{"only u1 u3", "only", "only u1 u3 u2"}, s.requests)

	m.keyed("up", "up", "up", "up", "_")
	assert.Contains(t, m.plainScreen(), "─ without u0 ─")
	m.keyed("enter")
	assert.Contains(t, m.plainScreen(), "─ only u0 ─", "a muted unit can be shown alone")
	m.keyed("enter")
	assert.Contains(t, m.plainScreen(), "─ all output ─")
	m.keyed("_", "_")
	assert.Contains(t, m.plainScreen(), "─ all output ─")
}

// TestBrokenComesFirst checks that on a small screen the selected unit does not take the row of a broken one.
func TestBrokenComesFirst(t *testing.T) {
	m, _ := play(t, 5, 60, 11)
	m.keyed("down", "down", "down", "down")
	require.Equal(t, "u4", m.Selected)
	assert.Contains(t, m.plainScreen(), "u1 crashed")
	assert.Contains(t, m.plainScreen(), "▸ u4 ready  4 more: 3 ready, 1 failed")
}

// TestWhy checks the view that explains a failure: what it shows, that keys act on the unit, and the ways back.
func TestWhy(t *testing.T) {
	m, s := play(t, 5, 100, 40)
	s.explanation.Failure = &api.Failure{
		Unit: "u0", Run: 3, State: api.Failed, How: "failed: exit 1 after 2.0 s",
		Excerpts: []api.Excerpt{{
			Test: "TestTide", Message: "low",
			Location: location.Location{File: filepath.Join(s.root, "tide.go"), Line: 8},
			Source:   []api.SourceLine{{Number: 7, Text: "seven"}, {Number: 8, Text: "\teight"}},
		}},
		Lines:    []api.Line{{Text: "\x1b[31mlow tide\x1b[0m"}},
		LastGood: &api.LastGood{Run: 2, At: m.Now},
		Changed:  []string{"tide.go"},
		Blocks:   []api.Blocked{{Unit: "u1", State: api.Ready, Freshness: api.Stale}},
		Remedies: []api.Remedy{{Text: "rerun it now", Action: api.Restart}},
	}
	m.keyed("y")
	m.settle(nil)
	shown := m.plainScreen()
	for _, want := range []string{
		"how u0 run 3 failed", "failed: exit 1 after 2.0 s", "TestTide  tide.go:8", "  7  seven", ">    8      eight",
		"low tide", "changed since run 2 ran well", "u1: ready, stale", "rerun it now (key r)",
	} {
		assert.Contains(t, shown, want)
	}
	m.keyed("r")
	assert.Equal(t, []string{"restart u0"}, s.requests)
	m.keyed("esc")
	assert.True(t, m.IsOpen("overview"))
	m.keyed("y", "enter")
	assert.True(t, m.IsOpen("overview"))
	assert.Contains(t, m.plainScreen(), "only u0")
}

// TestLongMessages checks that long messages never displace the keys and are never dropped silently.
func TestLongMessages(t *testing.T) {
	for _, width := range []int{60, 80, 158} {
		m, s := play(t, 5, width, 24)
		s.Send(engine.PlanBroken{Problem: strings.Repeat("a long problem ", 30)})
		s.goRound("u0")
		s.see()
		rows := strings.Split(strings.TrimSpace(m.plainScreen()), "\n")
		assert.Contains(t, rows[len(rows)-1], "? help")
		assert.Contains(t, rows[len(rows)-1], "q quit")
		assert.Contains(t, rows[1], "settings  a long problem")
		assert.Contains(t, rows[2], "loop stopped  u0")
		m.Height = 15
		assert.Contains(t, m.plainScreen(), "+1 more")
	}
}

// TestForeignText checks that text written by others cannot act on the terminal.
func TestForeignText(t *testing.T) {
	m, s := play(t, 5, 100, 30)
	s.Send(engine.PlanBroken{Problem: "bad \x1b[2J key \u202e\x9b"})
	s.book.Append(logbook.Entry{Unit: "u1"}, "\x1b[31mred\x1b[?25l")
	s.see()
	text := m.View().Content
	assert.NotContains(t, text, "\x1b[2J")
	assert.NotContains(t, text, "\x1b[?25l")
	assert.NotContains(t, text, "\u202e")
	assert.Contains(t, escape.Strip(text), `bad \x1b[2J key \u202e\x9b`)
	for _, row := range strings.Split(text, "\n") {
		assert.Equal(t, m.Width, ansi.StringWidth(row))
	}
}

// TestColors checks that the four meanings differ from each other and from the colors of units, on dark and light
// backgrounds, and that each tone has its meaning.
func TestColors(t *testing.T) {
	for _, of := range []cells.Ground{cells.DarkGround, cells.LightGround, cells.AnyGround} {
		p := cells.NewPalette(of, colorprofile.TrueColor)
		meanings := map[string]string{}
		for name, style := range map[string]lipgloss.Style{"current": p.Current, "moving": p.Moving, "stale": p.Stale,
			"broken": p.Broken} {
			c := fmt.Sprint(style.GetForeground())
			assert.Empty(t, meanings[c], name)
			meanings[c] = name
		}
		for _, style := range p.Units {
			assert.Empty(t, meanings[fmt.Sprint(style.GetForeground())])
		}
		for tone, want := range map[api.Tone]lipgloss.Style{
			"": p.Dim, api.ToneCurrent: p.Current, api.ToneMoving: p.Moving, api.ToneStale: p.Stale,
			api.ToneBroken: p.Broken,
		} {
			assert.Equal(t, want.GetForeground(), p.ToneStyle(tone).GetForeground())
		}
		for _, u := range []struct {
			unit api.Unit
			want lipgloss.Style
		}{
			{api.Unit{State: api.Crashed, Freshness: api.Stale}, p.Broken},
			{api.Unit{State: api.Ready, Freshness: api.Stale}, p.Stale},
			{api.Unit{State: api.Starting, Moving: true}, p.Moving},
			{api.Unit{State: api.Ready, Freshness: api.Current}, p.Current},
			{api.Unit{State: api.Stopped}, p.Dim},
		} {
			assert.Equal(t, u.want.GetForeground(), p.ToneStyle((&u.unit).Tone()).GetForeground())
		}
	}
}

// TestUnitsComeAndGo edits the settings while the screen is shown.
func TestUnitsComeAndGo(t *testing.T) {
	m, s := play(t, 2, 100, 30) // no unit follows u0
	edited := *s.Plan
	edited.Units = append([]*plan.Unit{{Name: "fresh"}}, edited.Units[1:]...)
	s.Send(engine.NewPlan{Plan: &edited})
	s.Run(time.Second)
	s.see()
	assert.Equal(t, "fresh", m.Selected, "the chosen one has gone")
	assert.NotEqual(t, m.Palette.Dim, m.UnitStyle("fresh"))
	assert.NotContains(t, m.plainScreen(), "u0  ready")
}

func TestMouse(t *testing.T) {
	m, _ := play(t, 5, 100, 30)
	m.screen()
	top := overview.Of(m.Model).Lanes.Top
	m.settle(tea.MouseClickMsg{X: 3, Y: top + 2, Button: tea.MouseLeft})
	assert.Equal(t, "u2", m.Selected)
	m.settle(tea.MouseClickMsg{X: lanes.ColumnsOf(m.Model).Left() + 30, Y: top, Button: tea.MouseLeft})
	assert.False(t, overview.IsAtNow(m.Model))
	m.keyed(".")
	assert.True(t, overview.IsAtNow(m.Model))
	m.settle(tea.MouseWheelMsg{Button: tea.MouseWheelUp})
	assert.False(t, overview.Focused(m.Model).Following())
	m.settle(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	m.settle(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	assert.True(t, overview.Focused(m.Model).Following(), "past the newest line it follows again")
}
