package tui

import (
	"errors"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/concern"
	"omnivigil/internal/engine"
	"omnivigil/internal/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/simulate"
	"omnivigil/internal/usage"
)

var update = flag.Bool("update", false, "write the screens into testdata")

// played is a project whose processes are played by a simulated world, in a time
// of its own.
type played struct {
	*simulate.World
	book     *logbook.Book
	requests []string
}

func (p *played) Snapshot() *engine.Snapshot { return p.Engine.Snapshot() }
func (p *played) Uses() map[string]usage.Use {
	return map[string]usage.Use{"u0": {Memory: 12 << 20}}
}
func (p *played) Log() *logbook.Book                 { return p.book }
func (p *played) Changed() (<-chan struct{}, func()) { return nil, func() {} }
func (p *played) Done() <-chan struct{}              { return nil }
func (p *played) Why(path string) concern.Report     { return concern.Report{Path: path} }
func (p *played) Note(string)                        {}
func (p *played) WriteCure(string) error             { return errors.New("the disk is full") }
func (p *played) Request(w engine.Request, unit string) {
	p.requests = append(p.requests, strings.TrimSpace(string(w)+" "+unit))
	p.Send(engine.Requested{Request: w, Unit: unit})
}

// goRound makes a unit's runs write what makes it run, until that is noticed.
func (p *played) goRound(unit string) {
	for range 5 {
		p.Save(simulate.Saving{Debounce: 150 * time.Millisecond, Vague: true}, engine.Hit{Unit: unit, Path: "data/" + unit + ".db", What: "written"})
		p.World.Run(12 * time.Second)
	}
}

// play returns a model of n units, every fourth of them a task, after a start, a
// save, a failure and a crash.
func play(t testing.TB, n, width, height int) (*model, *played) {
	t.Helper()
	p := &plan.Plan{Name: "Saltmarsh Ferries"}
	for i := range n {
		u := &plan.Unit{Name: fmt.Sprintf("u%d", i), Ready: plan.Ready{After: 300 * time.Millisecond}, Stop: plan.Stop{Signal: "TERM", Grace: time.Second}}
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
	w = simulate.NewWorld(p, func(unit string, _ int) simulate.Behaviour {
		b := simulate.Behaviour{EndsAfter: -1, StopTakes: 20 * time.Millisecond, Exit: fails[unit]}
		if w.Plan.Unit(unit).Kind.Ends() || b.Exit.Code != 0 {
			b.EndsAfter = 1200 * time.Millisecond
		}
		return b
	})
	book := logbook.Open(filepath.Join(t.TempDir(), "log"))
	t.Cleanup(func() { book.Close() })
	book.SetClock(func() time.Time { return w.Now })
	w.After = func(_ engine.Event, orders []engine.Order) {
		for _, o := range orders {
			if said, ok := o.(engine.Tell); ok {
				stream := logbook.Note
				if said.Kind == engine.TellRunOpens {
					stream = logbook.Opens
				}
				book.Append(logbook.Entry{Unit: said.Unit, Run: said.Run, Stream: stream, Tone: logbook.Tone(said.Tone)}, said.Text)
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
	book.Append(logbook.Entry{Unit: "u1"}, "the same", "the same", "\x1b[31mred\x1b[0m and a line that is far too long for any screen: "+strings.Repeat("word ", 60))
	if n > 3 {
		fails["u3"] = engine.Exit{Code: 2}
		save("u3")
	}
	fails["u1"] = engine.Exit{Code: 3}
	save("u1")
	s := &played{World: w, book: book}
	m := newModel(s)
	m.width, m.height = width, height
	m.at = time.Time{}
	m.tick2(w.Now)
	m.lanes.span = firstSpan
	return m, s
}

// tick2 lets the model see the project as it is at that time.
func (m *model) tick2(now time.Time) {
	m.now, m.snap, m.uses = now, m.session.Snapshot(), m.session.Uses()
}

func (m *model) plainScreen() string {
	rows := m.screen()
	for i, row := range rows {
		rows[i] = strings.TrimRight(ansi.Strip(row), " ")
	}
	return strings.Join(rows, "\n") + "\n"
}

// TestScreens draws the main view at several sizes, with few units and many, and
// other states of it, and compares them with the files in testdata.
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
		{"only-one", 5, 80, 24, []string{"down", "enter"}},
		{"back-in-time", 5, 80, 24, []string{"[", "["}},
		{"wrapped", 5, 80, 24, []string{"down", "enter", "\\"}},
		{"why", 5, 100, 24, []string{"down", "y"}},
	} {
		t.Run(test.name, func(t *testing.T) {
			m, _ := play(t, test.units, test.width, test.height)
			m.screen() // sizes are known only once it has been drawn
			for _, k := range test.keys {
				m.press(k)
			}
			rows := m.screen()
			require.Len(t, rows, test.height)
			for i, row := range rows {
				assert.LessOrEqual(t, ansi.StringWidth(row), test.width, "row %d", i)
			}
			file := filepath.Join("testdata", test.name+".txt")
			got := m.plainScreen()
			if *update {
				require.NoError(t, os.MkdirAll("testdata", 0o755))
				require.NoError(t, os.WriteFile(file, []byte(got), 0o644))
			}
			want, err := os.ReadFile(file)
			require.NoError(t, err)
			assert.Equal(t, string(want), got)
		})
	}
}

// TestLoop decides about a loop by key.
func TestLoop(t *testing.T) {
	m, s := play(t, 5, 100, 24)
	s.goRound("u0")
	m.tick2(s.Now)
	assert.Contains(t, m.plainScreen(), "loop stopped  u0 writes data/u0.db itself")
	m.lanes.unit = "u2"
	m.press("l")
	assert.Contains(t, m.plainScreen(), `ignore = ["data/u0.db"]`)
	m.loop.key(m, "w")
	assert.Contains(t, m.plainScreen(), "the disk is full", "the panel stays, and says why")
	m.loop.key(m, "enter")
	m.tick2(s.Now)
	assert.NotContains(t, m.plainScreen(), "loop stopped")
	assert.True(t, s.Snapshot().Unit("u0").Loop.Noted)
	m.lanes.unit = "u0"
	m.press("l") // it can be thought over
	m.loop.key(m, "u")
	assert.Nil(t, s.Snapshot().Unit("u0").Loop)
	assert.Equal(t, []string{"keep ignoring u0", "react again u0"}, s.requests)
}

// TestTextures requires every state to look different without colour.
func TestTextures(t *testing.T) {
	p := newPalette(true)
	seen := map[string]string{}
	for state := engine.Waiting; state <= engine.Crashed; state++ {
		for _, stale := range []bool{false, true} {
			if stale && state != engine.Ready && state != engine.Done {
				continue
			}
			glyph, _ := p.texture(cell{state, stale})
			name := fmt.Sprint(state, stale)
			assert.Empty(t, seen[glyph], "%s looks like %s", name, seen[glyph])
			seen[glyph] = name
		}
	}
}

// TestKeys holds the table of keys together: every key once, everything named, and
// each key that stands for a request sends it.
func TestKeys(t *testing.T) {
	used := map[string]string{}
	for _, b := range bindings {
		assert.NotEmpty(t, b.name)
		assert.Contains(t, groups, b.group)
		for _, k := range b.keys {
			assert.Empty(t, used[k], "%q stands twice", k)
			used[k] = b.name
		}
	}
	m, s := play(t, 5, 100, 30)
	m.screen()
	for _, k := range []string{"down", "r", "u", "s", "p", "ctrl+r", "ctrl+p", "ctrl+p", "q", "q"} {
		m.press(k)
		m.tick2(s.Now)
	}
	assert.Equal(t, []string{"restart u1", "restart with setup u1", "stop u1", "pause unit u1", "restart all", "pause", "resume", "quit", "quit now"}, s.requests)
}

func key(text string) tea.KeyPressMsg {
	switch text {
	case "enter":
		return tea.KeyPressMsg{Code: tea.KeyEnter}
	case "esc":
		return tea.KeyPressMsg{Code: tea.KeyEscape}
	}
	return tea.KeyPressMsg{Text: text, Code: []rune(text)[0]}
}

// TestManyUnits holds the lanes to their share, and the cursor to the order shown.
func TestManyUnits(t *testing.T) {
	for _, size := range [][2]int{{158, 46}, {80, 24}} {
		m, _ := play(t, 60, size[0], size[1])
		rows := m.screen()
		require.Len(t, rows, size[1])
		body := size[1] - m.laneTop
		assert.GreaterOrEqual(t, m.height-m.streamTop-1, body/2-1, "the stream has at least half")
		var seen []string
		m.lanes.unit = "u1" // which has crashed, and so is first
		for range 59 {
			seen = append(seen, m.lanes.unit)
			m.press("down")
			assert.Contains(t, m.plainScreen(), "▸ "+m.lanes.unit+" ")
		}
		assert.Equal(t, []string{"u1", "u3", "u0", "u2", "u4"}, seen[:5])
		assert.Equal(t, "u59", m.lanes.unit)
		m.press("!")
		assert.Equal(t, "u1", m.lanes.unit)
		m.press("!")
		assert.Equal(t, "u3", m.lanes.unit)

		m.press("|")
		m.screen()
		assert.LessOrEqual(t, m.streamTop-m.laneTop, max(size[1]/4+1, 4))

		m.press("f")
		for _, k := range []string{"5", "7"} {
			m.Update(key(k))
		}
		assert.Equal(t, "u57", m.lanes.unit)
		assert.NotContains(t, m.plainScreen(), "\n  u1 ")
		assert.Contains(t, m.plainScreen(), `59 more; names with "57" are shown`)
		m.Update(key("esc"))
		assert.Contains(t, m.plainScreen(), "\n  u1 ")
	}
}

// TestWhyPanel has keys act on the unit until the field is entered on purpose.
func TestWhyPanel(t *testing.T) {
	m, s := play(t, 5, 100, 30)
	m.screen()
	m.Update(key("y"))
	m.Update(key("r"))
	assert.Equal(t, []string{"restart u0"}, s.requests)
	m.Update(key("enter"))
	for _, k := range []string{"a", "s"} {
		m.Update(key(k))
	}
	assert.Equal(t, "as", m.question.input.Value())
	assert.Len(t, s.requests, 1)
	m.Update(key("esc"))
	m.Update(key("esc"))
	assert.False(t, m.question.open)
}

// TestLongMessages never push out the keys, and are never dropped without a word.
func TestLongMessages(t *testing.T) {
	for _, width := range []int{60, 80, 158} {
		m, s := play(t, 5, width, 24)
		s.Send(engine.PlanBroken{Problem: strings.Repeat("a long problem ", 30)})
		s.goRound("u0")
		m.tick2(s.Now)
		rows := strings.Split(strings.TrimSpace(m.plainScreen()), "\n")
		assert.Contains(t, rows[len(rows)-1], "? help")
		assert.Contains(t, rows[len(rows)-1], "q quit")
		assert.Contains(t, rows[1], "settings  a long problem")
		assert.Contains(t, rows[2], "loop stopped  u0")
		m.height = 15
		assert.Contains(t, m.plainScreen(), "+1 more")
	}
}

// TestForeignText lets nothing that others wrote act on the terminal.
func TestForeignText(t *testing.T) {
	m, s := play(t, 5, 100, 30)
	s.Send(engine.PlanBroken{Problem: "bad \x1b[2J key \u202e\x9b"})
	s.book.Append(logbook.Entry{Unit: "u1"}, "\x1b[31mred\x1b[?25l")
	m.tick2(s.Now)
	text := m.View().Content
	assert.NotContains(t, text, "\x1b[2J")
	assert.NotContains(t, text, "\x1b[?25l")
	assert.NotContains(t, text, "\u202e")
	assert.Contains(t, ansi.Strip(text), `bad \x1b[2J key \u202e\x9b`)
	for _, row := range strings.Split(text, "\n") {
		assert.Equal(t, m.width, ansi.StringWidth(row))
	}
}

// TestColours keeps the four meanings apart from each other and from the units, on both
// grounds, and gives each tone its meaning.
func TestColours(t *testing.T) {
	for _, dark := range []bool{true, false} {
		p := newPalette(dark)
		meanings := map[string]string{}
		for name, style := range map[string]lipgloss.Style{"current": p.current, "moving": p.moving, "stale": p.stale, "broken": p.broken} {
			c := fmt.Sprint(style.GetForeground())
			assert.Empty(t, meanings[c], name)
			meanings[c] = name
		}
		for _, style := range p.units {
			assert.Empty(t, meanings[fmt.Sprint(style.GetForeground())])
		}
		for tone, want := range map[logbook.Tone]lipgloss.Style{
			logbook.Neutral: p.dim, logbook.Current: p.current, logbook.Moving: p.moving, logbook.Stale: p.stale, logbook.Broken: p.broken,
		} {
			assert.Equal(t, want.GetForeground(), p.toneStyle(tone).GetForeground())
		}
		for _, u := range []struct {
			unit engine.Unit
			want lipgloss.Style
		}{
			{engine.Unit{State: engine.Crashed, Freshness: engine.Stale}, p.broken},
			{engine.Unit{State: engine.Ready, Freshness: engine.Stale}, p.stale},
			{engine.Unit{State: engine.Starting, Moving: true}, p.moving},
			{engine.Unit{State: engine.Ready, Freshness: engine.Current}, p.current},
			{engine.Unit{State: engine.Stopped}, p.dim},
		} {
			assert.Equal(t, u.want.GetForeground(), p.stateStyle(&u.unit).GetForeground())
		}
	}
}

// TestUnitsComeAndGo edits the settings under the screen's feet.
func TestUnitsComeAndGo(t *testing.T) {
	m, s := play(t, 2, 100, 30) // nobody follows u0
	edited := *s.Plan
	edited.Units = append([]*plan.Unit{{Name: "fresh"}}, edited.Units[1:]...)
	s.Send(engine.NewPlan{Plan: &edited})
	s.Run(time.Second)
	m.tick2(s.Now)
	m.meetUnits()
	assert.Equal(t, "fresh", m.lanes.unit, "the chosen one has gone")
	assert.NotEqual(t, m.palette.dim, m.unitStyle("fresh"))
	assert.NotContains(t, m.plainScreen(), "u0  ready")
}

func TestMouse(t *testing.T) {
	m, _ := play(t, 5, 100, 30)
	m.screen()
	m.mouse(tea.MouseClickMsg{X: 3, Y: m.laneTop + 2, Button: tea.MouseLeft})
	assert.Equal(t, "u2", m.lanes.unit)
	m.mouse(tea.MouseClickMsg{X: m.columns().left() + 30, Y: m.laneTop, Button: tea.MouseLeft})
	assert.False(t, m.atNow())
	m.press(".")
	assert.True(t, m.atNow())
	m.mouse(tea.MouseWheelMsg{Button: tea.MouseWheelUp})
	assert.False(t, m.stream.following())
	m.mouse(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	m.mouse(tea.MouseWheelMsg{Button: tea.MouseWheelDown})
	assert.True(t, m.stream.following(), "past the newest line it follows again")
}

func TestAxis(t *testing.T) {
	end := time.Date(2026, 3, 1, 12, 0, 30, 250e6, time.UTC)
	a := axisTo(end, time.Minute, 60)
	assert.Equal(t, time.Second, a.bucket)
	assert.Equal(t, 59, a.column(end))
	assert.Equal(t, a.start, axisTo(end.Add(500*time.Millisecond), time.Minute, 60).start, "what was drawn stays until a column is full")
	ticks := a.ticks(12)
	assert.Equal(t, []int{45, 0, 15}, []int{ticks[0].Second(), ticks[1].Second(), ticks[2].Second()})

	marks := []engine.Mark{
		{At: end.Add(-20 * time.Second), State: engine.Ready},
		{At: end.Add(-10 * time.Second), State: engine.Crashed},
		{At: end.Add(-10*time.Second + time.Millisecond), State: engine.Ready, Stale: true},
	}
	cells := a.cells(marks, end)
	assert.Equal(t, engine.Idle, cells[0].state)
	assert.Equal(t, cell{engine.Ready, false}, cells[45])
	assert.Equal(t, engine.Crashed, cells[49].state, "what lasts for less than a column is not lost")
	assert.Equal(t, cell{engine.Ready, true}, cells[55])
}

func BenchmarkScreen(b *testing.B) {
	m, _ := play(b, 20, 158, 46)
	for b.Loop() {
		m.screen()
	}
}
