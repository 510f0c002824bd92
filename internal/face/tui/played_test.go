package tui

import (
	"context"
	"flag"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
	"omnivigil/internal/api/past"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/engine/simulate"
	"omnivigil/internal/face/timeline"
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
