package tui

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
	"omnivigil/internal/api/past"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/recording"
	"omnivigil/internal/engine/simulate"
	"omnivigil/internal/engine/simulate/random"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/session/snapshot"
	"omnivigil/internal/text/diff"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/location"
)

// sizes are the smallest usable size, a comfortable one and a large one.
var sizes = [][2]int{{60, 15}, {80, 24}, {158, 46}}

// whole is a report of tests and findings for u0.
func whole(now time.Time) api.Detail {
	return api.Detail{
		Unit: "u0",
		Line: 12,
		Settings: []api.Setting{
			{Name: "run", Text: "go run ./cmd/tides"},
			{Name: "ready", Text: "port 4101, within 30.0 s"},
		},
		Rules: []api.RuleMatch{
			{
				Pattern: "cmd/tides/**/*.go",
				Does:    "restarts",
				Files:   2,
				Some:    []string{"cmd/tides/main.go", "cmd/tides/moon.go"},
			},
			{Pattern: "cmd/tide/*.go", Does: "restarts"},
			{Pattern: "**/*.md", Does: "nothing"},
		},
		Ignored: []string{"dist/**"},
		Variables: []api.Variable{
			{Name: "PORT", Value: "4101", From: "settings"},
			{Name: "HARBOUR_TOKEN", From: ".env", Secret: true},
		},
		Processes: []api.ProcessUse{
			{
				PID:     4711,
				Parent:  1,
				Command: "go run ./cmd/tides",
				Since:   now.Add(-20 * time.Second),
				CPUTime: api.Seconds(2 * time.Second),
				Memory:  40 << 20,
			},
			{
				PID:     4712,
				Parent:  4711,
				Command: "/tmp/tides",
				Since:   now.Add(-19 * time.Second),
				CPUTime: api.Seconds(time.Second),
				Memory:  20 << 20,
			},
		},
	}
}

// observed returns what u0 was seen to do.
func observed() api.Observations {
	return api.Observations{
		Units: []api.Observation{{
			Unit: "u0", Run: 3,
			Reads: []api.ObservedRead{
				{Path: "cmd/tides/main.go", Rule: "cmd/**"}, {Path: ".env", Exempt: "the settings"},
				{Path: "tax/rates.json"},
			},
			Missing: []string{"tides.local.toml"}, Listens: []string{"127.0.0.1:4101"},
			Writes:   []api.ObservedWrite{{Path: "tides.db"}},
			Connects: []api.ObservedPeer{{Address: "127.0.0.1:4102", Unit: "u2"}},
		}},
		Mismatches: []api.Mismatch{
			{
				Unit: "u0", Severity: api.SeverityWarning, Line: 4,
				Text:  "reads tax/rates.json, which no rule covers: a save changes nothing",
				Edits: []api.Edit{{Text: `watch = ["tax/rates.json"]`}},
			},
			{Unit: "u0", Severity: api.SeverityNote, Line: 4,
				Text: `read none of the 2 files that "docs/*.md" matches`},
		},
	}
}

// used returns samples of u0 and u1 for the last half minute.
func used(now time.Time) []api.Sample {
	var all []api.Sample
	for i := range 30 {
		at := now.Add(time.Duration(i-30) * time.Second)
		all = append(
			all,
			api.Sample{At: at, Unit: "u0", CPU: float64(i%7) / 6, Memory: int64(i) << 20, Output: int64(i * i * 100)},
			api.Sample{At: at, Unit: "u1", CPU: 0.1, Memory: 5 << 20},
		)
	}
	return all
}

// lately is a history in which u0 has become slower eight days ago, and u1 fails now and then.
func lately(now time.Time) map[past.Kind]past.History {
	var all []past.Day
	for n := range 40 {
		at := now.AddDate(0, 0, n-39)
		slower := 1.0
		if n >= 31 {
			slower = 1.6
		}
		wave := 1 + float64(n%5)/20
		all = append(all,
			past.Day{Unit: "u0", Day: at, Runs: 20, Took: past.Five{slower, 1.2 * slower, 1.3 * wave * slower, 1.5 * slower, 2.5},
				Memory: past.Five{8e6, 8e6, 8e6, 8e6, 8e6}},
			past.Day{Unit: "u1", Day: at, Runs: n % 3, Broken: n % 6 / 5, Flaky: n % 12 / 11, Took: past.Five{0.2, 0.3, 0.4, 0.5, 0.6}})
	}
	return map[past.Kind]past.History{
		past.Days: {Days: all},
		past.Trends: {Trends: []past.Trend{{ID: 1, Kind: "higher", Measure: "duration", Unit: "u0", Since: now.AddDate(0, 0, -8),
			Text: "60 % slower since run 812: 2.1 s, before 1.3 s", Files: []string{"a.go", "b.go", "c.go"}}}},
		past.Tests: {Tests: []past.Test{{Unit: "u3", Runs: 214, Failed: 6, Flaky: 4, Low: 0.0129, High: 0.0598,
			Coincides: []string{past.Load}}}},
	}
}

// TestViewScreens draws every view at three sizes and compares it with the files in testdata.
func TestViewScreens(t *testing.T) {
	for _, test := range []struct {
		name string
		keys []string
	}{
		{"ripples", []string{"R", "down"}},
		{"ripple-compared", []string{"R", "down", "down", "v"}},
		{"unit", []string{"U"}},
		{"observed", []string{"O"}},
		{"map", []string{"M"}},
		{"map-if-restarted", []string{"M", "v"}},
		{"charts-cpu", []string{"C"}},
		{"charts-durations", []string{"C", "4", "o"}},
		{"charts-days", []string{"C", "6"}},
		{"actions", []string{":", "r", "i"}},
	} {
		for _, size := range sizes {
			name := fmt.Sprintf("%s-%d", test.name, size[0])
			t.Run(name, func(t *testing.T) {
				m, p := play(t, 5, size[0], size[1])
				p.detail, p.samples, p.observations = whole(p.Now), used(p.Now), observed()
				p.history = lately(p.Now)
				m.keyed(test.keys...)
				holds(t, m)
				compareScreen(t, m, name)
			})
		}
	}
}

// TestRecordedSession plays a recording of a real session (Saltmarsh Ferries and six saves, the last of which breaks
// two units) and compares the screen in the middle and at the end.
func TestRecordedSession(t *testing.T) {
	f, err := os.Open("testdata/ferries.recording")
	require.NoError(t, err)
	defer f.Close()
	step := 0
	var m *root
	draw := func(name string, size [2]int, keys ...string) {
		m.handle(tea.WindowSizeMsg{Width: size[0], Height: size[1]})
		m.BackToLanes()
		m.keyed(keys...)
		holds(t, m)
		compareScreen(t, m, fmt.Sprintf("ferries-%s-%d", name, size[0]))
	}
	require.NoError(t, recording.Replay(f, func(played recording.Played) {
		step++
		snap := snapshot.Of(played.Engine.Snapshot(), played.Plan)
		snap.Project.Since = played.At
		if m == nil {
			m = newRoot(t.Context(), &silent{}, snap)
		}
		snap.Project.Since = m.Snap.Project.Since
		m.clock = func() time.Time { return played.At }
		m.settle(snap)
		if step == 97 { // while the burst is in progress
			for _, size := range sizes {
				draw("midst", size)
			}
		}
	}))
	for _, size := range sizes {
		draw("lanes", size)
		draw("ripples", size, "R", "down", "down")
		draw("map", size, "M")
		draw("durations", size, "C", "4")
		draw("rest", size, "C", "5")
	}
}

// silent is a project of which only the snapshot is known.
type silent struct{ played }

func (*silent) Lines(context.Context, api.LineQuery) (api.Page, error) { return api.Page{}, nil }

// holds requires that the screen has exactly the terminal's rows and cells and contains nothing harmful.
func holds(t require.TestingT, m *root) {
	rows := m.screen()
	require.Len(t, rows, m.Height)
	for i, row := range rows {
		require.Equal(
			t,
			m.Width,
			ansi.StringWidth(row),
			"row %d of the %s view at %dx%d: %q",
			i,
			m.Top().Name(),
			m.Width,
			m.Height,
			row,
		)
	}
}

// TestViews opens and closes the views by key and uses the keys of each.
func TestViews(t *testing.T) {
	m, p := play(t, 5, 120, 40)
	p.detail, p.samples, p.root = whole(p.Now), used(p.Now), t.TempDir()
	require.NoError(t, os.MkdirAll(filepath.Join(p.root, "web/app"), 0o755))
	p.see()
	at := func(name string) {
		t.Helper()
		require.Equal(t, name, m.Top().Name())
		require.LessOrEqual(t, len(m.Stack), 3)
		holds(t, m)
	}
	for key, name := range map[string]string{"R": "ripples", "U": "unit", "M": "map", "C": "charts"} {
		m.keyed(key)
		at(name)
		m.keyed("M")
		at(map[bool]string{true: "overview", false: "map"}[name == "map"])
		m.keyed("L")
		at("overview")
		m.keyed(key, "esc")
		at("overview")
	}

	// From a ripple to its time in the lanes, and to its output alone.
	m.keyed("R", "end", "right", "enter")
	at("overview")
	assert.False(t, m.At.IsZero())
	first := m.Snap.Ripples[0]
	assert.Equal(t, first.Runs[1].Unit, m.Selected)
	m.keyed("esc", "R", "down", "^")
	assert.Contains(t, m.plainScreen(), "only ripple 3")
	m.keyed("backspace", ".")

	// The map: move along links and ask what a save would trigger.
	m.Selected = "u0"
	m.keyed("M", "right")
	assert.Equal(t, "u2", m.Selected)
	m.keyed("left")
	assert.Equal(t, "u0", m.Selected)
	m.keyed("v")
	assert.Contains(t, m.plainScreen(), "1 u0")
	assert.Contains(t, m.plainScreen(), "2 u2")
	m.keyed("/", "w", "tab")
	assert.Contains(t, m.plainScreen(), "if I save  web/")
	m.keyed("enter")
	p.see()
	assert.Contains(t, m.plainScreen(), "nothing would act on web/")
	m.keyed("esc", "enter")
	assert.NotContains(t, m.plainScreen(), "│ u1")
	m.keyed("U")
	at("unit")

	// Charts share the time cursor with the lanes.
	m.keyed("C", "2", "left")
	assert.Contains(t, m.plainScreen(), "then ")
	m.keyed("enter")
	assert.NotContains(t, m.plainScreen(), "\n  u1")
	m.keyed("esc", "esc")
	at("overview")

	m.keyed("m")
	assert.Equal(t, tea.MouseModeNone, m.View().MouseMode)
	m.keyed("m", "o", "o")
	assert.Contains(t, m.plainScreen(), "lanes ordered by trouble")
}

// TestChartsWithData checks that the charts open on a measure that has data.
func TestChartsWithData(t *testing.T) {
	m, p := play(t, 5, 120, 40)
	p.samples = nil
	m.keyed("C")
	p.see()
	assert.Contains(t, m.plainScreen(), "4 durations of runs and passes")
	m.keyed("1")
	assert.Contains(t, m.plainScreen(), "no data in this range", "the user's choice stays")
}

// TestCommandLine finds actions and gives them their arguments.
func TestCommandLine(t *testing.T) {
	m, p := play(t, 5, 120, 40)
	do := func(text string) string {
		t.Helper()
		m.BackToLanes()
		m.keyed(":")
		for _, r := range text {
			m.keyed(string(r))
		}
		m.keyed("enter")
		p.see()
		return m.plainScreen()
	}
	do("restart u1 u3")
	do("restart-all")
	assert.Equal(t, []string{"restart u1", "restart u3", "restart"}, p.requests)
	assert.Contains(t, do("restart u9"), `there is no unit "u9"`)
	assert.Contains(t, do("nonsensical"), "no action has that in its name")
	assert.Contains(t, do("restart-all u1"), "restart-all takes nothing after it")
	do("span 5m")
	assert.Equal(t, 4, m.Span)
	assert.Contains(t, do("span ever"), "a duration is written as 30s, 5m, 2h or 3d")
	do("go-to 20s ago")
	assert.Equal(t, p.Now.Add(-20*time.Second), m.At)
	do("go-to now")
	assert.True(t, m.At.IsZero())
	assert.Contains(t, do("go-to noon"), "a time is written as 12:04")
	do("charts memory")
	assert.Equal(t, "charts", m.Top().Name())
	assert.Contains(t, do("charts noise"), "there is no chart of noise")
	do("ripples 2")
	assert.Contains(t, m.plainScreen(), "─ ripple 2  ")
	do("sort-lanes need")
	assert.Contains(t, m.plainScreen(), "lanes ordered by need")
	do("find-units task")
	assert.NotContains(t, m.plainScreen(), "\n  u1 ")
	do("find-units")
	m.keyed("esc")
	do("filter unit=u3")
	assert.Equal(t, "unit=u3", overview.Focused(m.Model).Filter.String())
	do("select u4")
	assert.Equal(t, "u4", m.Selected)
	do("rppls") // its letters in order are enough
	assert.Equal(t, "ripples", m.Top().Name())
	file := filepath.Join(t.TempDir(), "lanes.svg")
	do("lanes")
	do("write-drawing " + file)
	data, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Contains(t, string(data), "Saltmarsh Ferries")
	assert.Contains(t, do("write-drawing "+file), "file exists")
	assert.Contains(t, do("what-if main.go"), "nothing would act on main.go")
	for _, c := range commandsOf(m.Model) {
		assert.NotEmpty(t, c.help, c.name)
	}
}

// TestClicks clicks on everything that can be clicked, except the lanes and the stream.
func TestClicks(t *testing.T) {
	m, _ := play(t, 5, 158, 46)
	m.screen()
	click := func(x, y int) {
		m.settle(tea.MouseClickMsg{X: x, Y: y, Button: tea.MouseLeft})
		m.screen()
	}
	top := overview.Of(m.Model).Lanes.Top
	saves := escape.Strip(m.screen()[top-1])
	click(ansi.StringWidth(saves[:strings.Index(saves, "▾2")]), top-1)
	assert.Equal(t, m.Snap.Saves[0].At, m.At, "a tick")
	click(3, top+2)
	assert.Equal(t, "u2", m.Selected, "a lane")
	c := lanes.ColumnsOf(m.Model)
	click(c.Left()+c.Lane-10, top)
	assert.True(t, m.At.After(m.Snap.Saves[0].At), "a moment")
	m.keyed(".", "R")
	m.screen()
	clickOn := func(expression string) {
		t.Helper()
		for y, row := range m.screen() {
			if at := regexp.MustCompile(expression).FindStringIndex(escape.Strip(row)); at != nil {
				click(ansi.StringWidth(escape.Strip(row)[:at[0]]), y)
				return
			}
		}
		t.Errorf("nothing on the screen is like %s", expression)
	}
	clickOn(`1  12:00:00  current`)
	assert.Contains(t, m.plainScreen(), "─ ripple 1  ", "a ripple")
	clickOn(`u4 +run 1`)
	assert.Regexp(t, `▸ u4 +run 1`, m.plainScreen(), "a bar")
	m.keyed("M")
	clickOn(`u2`)
	assert.Equal(t, "u2", m.Selected, "a box")
}

// TestEveryKey presses every key in every view and field, at four sizes, with 6, 20 and 60 units: the screen stays
// complete, no view fails, and each key has an effect or gives a reason. Requests are not carried out. Without
// OMNIVIGIL_KEYS=all, there is one number of units for each size.
func TestEveryKey(t *testing.T) {
	usual := map[int]int{158: 6, 100: 20, 80: 60, 60: 6} // units by width; the others take long
	for _, size := range [][2]int{{158, 46}, {100, 30}, {80, 24}, {60, 15}} {
		for _, units := range []int{6, 20, 60} {
			if withRace && units*size[0] != 6*80 || os.Getenv("OMNIVIGIL_KEYS") != "all" && usual[size[0]] != units {
				continue
			}
			t.Run(fmt.Sprintf("%dx%d-%d", size[0], size[1], units), func(t *testing.T) { everyKey(t, size, units) })
		}
	}
}

func everyKey(t *testing.T, size [2]int, units int) {
	m, p := play(t, units, size[0], size[1])
	p.detail, p.samples, p.root = whole(p.Now), used(p.Now), t.TempDir()
	p.findings = []api.Finding{{
		Unit: "u3", Run: 1, Location: location.Location{File: p.root + "/gone.go", Line: 3}, Severity: api.SeverityError,
		Message: "undefined: berth",
	}}
	p.cases = []api.Case{{Unit: "u3", Name: "low tide", Status: "failed"}}
	for _, way := range []string{"L", "R", "U", "M", "C", "T", "F", "O", ":", "y", "f", "/", "&", "a", "w", "%", `"`,
		"?", "q"} {
		for _, b := range bindings {
			m.At = time.Time{}
			m.BackToLanes()
			m.press(key(way))
			m.Requests, m.Commands, m.Listeners, m.Said, m.Notice = nil, nil, nil, "", ""
			typing, _ := m.Top().(view.Taker)
			typed := typing != nil && typing.TakesKeys(m.Model)
			if b.In != "overview" && b.In != m.Top().Name() || b.In == "overview" && typed {
				continue
			}
			before, top := m.plainScreen(), m.Top()
			m.press(key(b.Keys[0]))
			holds(t, m)
			require.NotContains(t, m.Notice, "this is a bug", "%s after %s", b.Keys[0], way)
			acts := m.Top() != top || len(m.Requests)+len(m.Commands)+len(m.Listeners) > 0
			require.True(t, acts || m.plainScreen() != before, "%s (%s) after %s", b.Keys[0], b.Name, way)
		}
		m.keyed("L") // and once with every question open
		m.keyed(way)
		holds(t, m)
	}
}

// TestNoEffect checks that a key says so if what it fetches changes nothing, and that keys for the lanes and the stream
// do nothing where another view hides them.
func TestNoEffect(t *testing.T) {
	m, _ := play(t, 5, 158, 46)
	for _, c := range [][3]string{
		{"R", "pgup", "page up changes nothing right now"},
		{"R", "_", "_: it acts on the stream; L shows it"},
		{"M", "#", "#: there is no output here; L shows it"},
		{"M", "-", "-: there is no axis of time here; L and C show one"},
		{"U", "z", "z: it acts on several lanes; L shows those there are"},
	} {
		m.keyed("L", c[0])
		m.settle(nil)
		m.keyed(c[1])
		m.settle(nil)
		assert.Contains(t, m.plainScreen(), c[2])
	}
}

// TestFewColors checks that the meanings are distinct with sixteen colors, and readable without colors.
func TestFewColors(t *testing.T) {
	p := cells.NewPalette(cells.AnyGround, colorprofile.ANSI)
	seen := map[string]bool{}
	for _, s := range []string{p.Current.Render("x"), p.Moving.Render("x"), p.Broken.Render("x"), p.Stale.Render("x"),
		p.Dim.Render("x")} {
		assert.False(t, seen[s], "%q", s)
		seen[s] = true
	}
	for text, want := range map[string]cells.Ground{"15;0": cells.DarkGround, "0;15": cells.LightGround,
		"12;8":         cells.DarkGround,
		"0;default;15": cells.LightGround, "": cells.AnyGround, "0;x": cells.AnyGround} {
		assert.Equal(t, want, cells.GroundOf(text), text)
	}
}

// TestRandomScreens draws ten thousand snapshots of random projects, each in a random view at a random size after
// some random keys: no row is too wide or missing, and nothing panics.
func TestRandomScreens(t *testing.T) {
	most := 10_000
	if testing.Short() || withRace {
		most = 500
	}
	keys := []string{
		"up",
		"down",
		"left",
		"right",
		"tab",
		"enter",
		"v",
		"i",
		"z",
		"o",
		"1",
		"2",
		"3",
		"4",
		"5",
		"pgdown",
		"pgup",
		"g",
		"G",
		"+",
		"-",
		"[",
		"|",
		"?",
		"esc",
		"*",
		"\\",
	}
	views := []string{"L", "R", "U", "M", "C", "T", "F", ":", "y", "f"}
	r := rand.New(rand.NewPCG(1, 2))
	drawn := 0
	for seed := uint64(0); drawn < most; seed++ {
		var m *root
		random.Play(seed, false, func(w *simulate.World) {
			check := w.After
			w.After = func(ev engine.Event, orders []engine.Order) {
				check(ev, orders)
				if w.Steps%5 != 0 || drawn >= most {
					return
				}
				p := &played{World: w, detail: whole(w.Now), samples: used(w.Now)}
				snap := snapshot.Of(w.Engine.Snapshot(), w.Plan)
				if len(snap.Units) > 0 {
					snap.Units[r.IntN(len(snap.Units))].Why = "it waits for 渡し船, e\u0301 and \U0001F6A2 " +
						strings.Repeat("long ", r.IntN(40))
				}
				for _, u := range snap.Units[:min(len(snap.Units), r.IntN(3))] {
					u.Name = "渡し船" + u.Name
				}
				for _, ripple := range snap.Ripples {
					ripple.Title += " 港/時刻表.csv"
				}
				if m == nil || len(m.Stack) == 0 {
					m = newRoot(t.Context(), p, snap)
					m.clock = func() time.Time { return w.Now }
				}
				m.Project, m.Snap = p, snap
				m.MeetUnits()
				m.Now = w.Now
				m.handle(tea.WindowSizeMsg{Width: 40 + r.IntN(260), Height: 8 + r.IntN(92)})
				m.BackToLanes()
				m.press(key(views[r.IntN(len(views))]))
				for range r.IntN(4) {
					m.press(key(keys[r.IntN(len(keys))]))
				}
				if a, ok := m.Top().(view.Asker); ok {
					a.Ask(m.Model)
				}
				m.Requests, m.Commands = nil, nil // the screen must also hold without answers
				holds(t, m)
				drawn++
			}
		})
	}
}

// TestWhatChanged shows what ripples have changed, line by line, in the view of ripples and by its own key.
func TestWhatChanged(t *testing.T) {
	m, s := play(t, 4, 100, 30)
	m.keyed("W")
	m.settle(nil)
	assert.Contains(t, m.plainScreen(), "no change of it is kept")
	m.keyed("esc")

	before, after := "price = 3\n"+strings.Repeat("line\n", 60), "price = 4\n"+strings.Repeat("other\n", 60)
	hunks, err := diff.Of(before, after)
	require.NoError(t, err)
	s.changed = []changes.File{
		{Path: "a.go", Kind: changes.Changed, Added: 61, Removed: 61, Hunks: hunks, Reverts: 2},
		{Path: "b.env", Kind: changes.Removed, Note: "it may have secrets, so its contents are not kept"},
	}
	m.keyed("R", "down", "W")
	m.settle(nil)
	shown := m.plainScreen()
	assert.Regexp(t, `(?m)^  a.go  \+61 −61, takes back the change of ripple 2$`, shown)
	assert.Regexp(t, `(?m)^ +1 − price = 3$`, shown)
	assert.NotContains(t, shown, "b.env", "further down")
	m.keyed("pgdown", "pgdown", "pgdown")
	shown = m.plainScreen()
	assert.Regexp(t, `(?m)^ +⋮ 82 more lines$`, shown, "long parts are folded")
	assert.Regexp(t, `(?m)^  b.env, removed\n    it may have secrets, so its contents are not kept$`, shown)
	m.keyed("pgup", "pgup", "pgup")
	assert.Contains(t, m.plainScreen(), "price = 3")
	m.keyed("W")
	assert.NotContains(t, m.plainScreen(), "price = 3")
}

// TestProjects lists two other projects, one of which is broken, and switches to it.
func TestProjects(t *testing.T) {
	for _, size := range sizes {
		m, p := play(t, 5, size[0], size[1])
		m.keyed("P")
		assert.Contains(t, m.plainScreen(), "no other project is known here")
		m.ListOthers = func(context.Context) []view.Other {
			return []view.Other{
				{File: "/srv/fares/omnivigil.toml", Name: "Fares", Root: "/srv/fares", Word: api.VerdictCurrent,
					Text: "all 4 run, started in 1.2 s", Since: m.Now.Add(-time.Hour)},
				{File: "/srv/tides/omnivigil.toml", Name: "Tide tables", Root: "/srv/tides", Word: api.VerdictBroken,
					Text: "api crashed (exit 2)", Since: m.Now.AddDate(0, 0, -2)},
			}
		}
		m.keyed("P")
		m.settle(nil)
		m.keyed("down")
		holds(t, m)
		compareScreen(t, m, fmt.Sprintf("projects-%d", size[0]))
		m.keyed("enter")
		m.settle(nil)
		assert.Equal(t, []string{"leave-running"}, p.requests)
		assert.Equal(t, "/srv/tides/omnivigil.toml", m.SwitchTo)
		m.keyed("esc")
		assert.Contains(t, m.plainScreen(), "Tide tables BROKEN")
	}
}

// TestFoldedByMember folds the quiet units of each member into one row.
func TestFoldedByMember(t *testing.T) {
	m, _ := play(t, 60, 158, 40)
	shown := *m.Snap
	shown.Units = slices.Clone(shown.Units)
	for i, u := range shown.Units {
		of := *u
		of.Name = fmt.Sprintf("%s/%s", []string{"sea", "land"}[i%2], u.Name)
		shown.Units[i] = &of
	}
	m.handle(&shown)
	holds(t, m)
	text := m.plainScreen()
	assert.Regexp(t, `\d+ more in sea: \d+ ready.*   u\d+, u\d+`, text)
	assert.Regexp(t, `\d+ more in land: `, text)
}
