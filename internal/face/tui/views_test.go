package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"regexp"
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
	"omnivigil/internal/engine/recording"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/session/snapshot"
	"omnivigil/internal/text/diff"
	"omnivigil/internal/text/escape"
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
