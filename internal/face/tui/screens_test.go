package tui

import (
	"context"
	"fmt"
	"math/rand/v2"
	"os"
	"strings"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/simulate"
	"omnivigil/internal/engine/simulate/random"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/session/snapshot"
	"omnivigil/internal/text/location"
)

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
