package tui

import (
	"os"
	"slices"
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
)

// hear lets the model handle the next message of a terminal.
func (m *root) hear(t *testing.T) {
	t.Helper()
	require.NotEmpty(t, m.Listeners)
	next := m.Listeners[0]
	m.Listeners = m.Listeners[1:]
	m.settle(next())
}

// row returns a line of a terminal's screen.
func row(n int, text string) api.ScreenLine {
	return api.ScreenLine{Row: n, Parts: []api.Cells{{Text: text, Width: len(text)}}}
}

// took waits until the project has received that many inputs, and returns them.
func (p *played) took(t *testing.T, n int) []api.Input {
	t.Helper()
	var typed []api.Input
	require.Eventually(t, func() bool {
		p.mu.Lock()
		defer p.mu.Unlock()
		typed = p.typed
		return len(typed) >= n
	}, time.Minute, time.Millisecond)
	return typed
}

// TestTyping enters a unit's terminal, types, and leaves.
func TestTyping(t *testing.T) {
	m, p := play(t, 5, 100, 30)
	size := api.Size{Cols: 40, Rows: 5}
	p.screens = []api.Screen{
		{
			Unit:   "u0",
			Run:    1,
			Number: 1,
			Size:   size,
			Lines:  []api.ScreenLine{row(0, "sailings"), row(1, ""), row(2, ""), row(3, ""), row(4, "")},
			Mouse:  "drags",
			Title:  "timetable",
		},
		{
			Unit:   "u0",
			Run:    1,
			Number: 2,
			Size:   size,
			Lines:  []api.ScreenLine{row(1, "berths")},
			Cursor: api.Cursor{Col: 3, Row: 1, Shape: "bar"},
			Mouse:  "drags",
		},
	}
	m.keyed("h")
	m.hear(t)
	assert.Contains(t, m.plainScreen(), "─ typing into u0: timetable ─")
	assert.Contains(t, m.plainScreen(), " f12 to return ─")
	m.hear(t)
	assert.Contains(t, m.plainScreen(), "\nsailings\nberths\n", "what has not changed stays")
	view := m.View()
	require.NotNil(t, view.Cursor)
	assert.Equal(t, tea.Position{X: 3, Y: m.BodyTop + 2}, view.Cursor.Position)
	assert.Equal(t, tea.CursorBar, view.Cursor.Shape)

	m.keyed("q", "ctrl+c", "esc")
	m.settle(tea.PasteMsg{Content: "a\nb"})
	m.settle(tea.MouseClickMsg{X: 5, Y: m.BodyTop + 3, Button: tea.MouseLeft})
	m.settle(tea.BlurMsg{})
	m.handle(tea.WindowSizeMsg{Width: 80, Height: 24})
	m.settle(nil)
	me := os.Getpid()
	assert.Equal(t, []api.Input{
		{
			Unit:  "u0",
			Face:  me,
			Focus: "in",
		},
		{Unit: "u0", Face: me, Text: "q"},
		{Unit: "u0", Face: me, Keys: []string{"ctrl+c"}},
		{Unit: "u0", Face: me, Keys: []string{"esc"}},
		{Unit: "u0", Face: me, Text: "a\nb", Paste: true},
		{Unit: "u0", Face: me, Mouse: &api.Mouse{Does: "press", Button: "left", Col: 5, Row: 2}},
		{Unit: "u0", Face: me, Focus: "out"},
		{Unit: "u0", Face: me, Size: &api.Size{Cols: 80, Rows: 21}},
	}, p.took(t, 8))

	m.keyed("shift+f12")
	assert.Contains(t, m.plainScreen(), "all output")
	m.adopt(Habits{Keys: map[string][]string{"return": {"f9"}}}, nil)
	assert.Contains(t, m.plainScreen(), " f9 to return ─")
	m.keyed("f12", "f9")
	assert.True(t, m.IsOpen("overview"))
	assert.Contains(t, p.took(t, 10), api.Input{Unit: "u0", Face: me, Text: "f12"}, "it is a key like any other then")
	assert.Empty(t, p.requests, "no key meant anything here")
}

// TestTypingFromUnit enters the terminal from the unit's own view and comes back to that view.
func TestTypingFromUnit(t *testing.T) {
	m, p := play(t, 5, 100, 30)
	p.screens = []api.Screen{
		{Unit: "u0", Run: 1, Number: 1, Size: api.Size{Cols: 40, Rows: 1}, Lines: []api.ScreenLine{row(0, "tides")}},
	}
	m.keyed("U", "h")
	m.hear(t)
	assert.Contains(t, m.plainScreen(), "typing into u0")
	m.keyed("f12")
	assert.True(t, m.IsOpen("unit"))
}

// TestWatched watches a terminal that another face types into, and takes it over; then it looks at one that has
// ended.
func TestWatched(t *testing.T) {
	m, p := play(t, 5, 100, 30)
	other := &api.Face{Kind: view.Kind, PID: 1}
	p.screens = []api.Screen{
		{
			Unit:   "u0",
			Run:    1,
			Number: 1,
			Size:   api.Size{Cols: 40, Rows: 1},
			Lines:  []api.ScreenLine{row(0, "tides")},
			Hand:   other,
		},
	}
	m.keyed("h")
	m.hear(t)
	assert.Contains(t, m.plainScreen(), "watching u0: another screen is typing into it")
	m.keyed("x")
	p.screens[0].Hand = nil
	m.keyed("enter")
	m.Listeners = m.Listeners[1:] // the listener of the watched terminal
	m.hear(t)
	assert.Contains(t, m.plainScreen(), "typing into u0")
	m.keyed("x")
	typed := slices.DeleteFunc(p.took(t, 3), func(in api.Input) bool { return in.Text != "x" })
	assert.Len(t, typed, 1, "what is typed while another has the terminal is not sent")

	m.BackToLanes()
	p.screens[0].Ended = true
	m.Listeners = nil
	m.keyed("h")
	m.hear(t)
	assert.Contains(t, m.plainScreen(), "u0 run 1 has ended; this is its last screen")
	m.keyed("r", "esc")
	assert.Equal(t, []string{"restart u0"}, p.requests)
	assert.True(t, m.IsOpen("overview"))
}

// TestAnswer notices that a unit asks a question and answers it without leaving the stream.
func TestAnswer(t *testing.T) {
	m, p := play(t, 5, 120, 30)
	p.asks = map[string]api.Ask{"u0": {Kind: api.AskLine, Text: "migrate? [y/N]"}}
	p.see()
	assert.Regexp(t, `u0 .*\? asks migrate.*`, m.plainScreen())
	assert.Regexp(t, `i answer +h type into it`, m.plainScreen())
	m.keyed("i", "y")
	assert.Contains(t, m.plainScreen(), "u0 asks: migrate? [y/N]  y")
	m.keyed("enter")
	assert.Equal(t, []api.Input{{Unit: "u0", Face: os.Getpid(), Text: "y", Keys: []string{"enter"}}}, p.took(t, 1))

	p.asks = map[string]api.Ask{"u0": {Kind: api.AskPassword, Text: "Password:"}}
	p.see()
	m.keyed("i", "tide")
	assert.NotContains(t, m.plainScreen(), "tide ")
	assert.Contains(t, m.plainScreen(), "u0 asks: Password:  ****")
	m.keyed("esc")
}
