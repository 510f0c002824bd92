package tui

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/colorprofile"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/simulate"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/location"
)

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
