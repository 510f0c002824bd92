package tui

import (
	"strings"
	"testing"

	"github.com/charmbracelet/colorprofile"
	"github.com/stretchr/testify/assert"

	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/text/escape"
)

// seen returns the screen as text.
func seen(m *root) string { return escape.Strip(strings.Join(m.screen(), "\n")) }

func TestOwnKeys(t *testing.T) {
	m, s := play(t, 5, 140, 40)
	m.adopt(Habits{Keys: map[string][]string{"restart": {"x", "f5"}}}, nil)
	m.keyed("down")
	m.keyed("r") // it has no meaning now
	s.see()
	assert.Empty(t, s.requests)
	m.keyed("x")
	s.see()
	m.keyed("f5")
	s.see()
	assert.Equal(t, []string{"restart u1", "restart u1"}, s.requests)
	m.keyed("?")
	assert.Contains(t, seen(m), "x f5                    restart or rerun it")

	assert.Equal(
		t,
		[]string{"the key s is that of restart and of stop: it does the first"},
		Clashes(map[string][]string{"restart": {"s"}}),
	)
	assert.Len(t, Clashes(map[string][]string{"stop": {"T"}}), 1, "it is kept for a view to come")
	assert.Empty(t, Clashes(map[string][]string{"restart": {"s"}, "stop": {"r"}}), "two may change places")
	assert.Empty(t, Clashes(nil))
	names, keys := Actions()
	assert.Contains(t, names, "restart")
	assert.Equal(t, []string{"r"}, keys["restart"])
}

// TestHabitsChange checks that an edit of the user's file takes effect at once.
func TestHabitsChange(t *testing.T) {
	m, _ := play(t, 5, 140, 40)
	edited := false
	m.habitsNow = func() (Habits, []string, bool) {
		return Habits{
				Theme: "light",
				Keys:  map[string][]string{"restart": {"s"}},
			}, []string{
				"config.toml:1: a mistake",
			}, edited
	}
	m.reread()
	assert.NotContains(t, seen(m), "your own settings")
	edited = true
	m.reread()
	assert.Contains(t, seen(m), "your own settings: config.toml:1: a mistake; the key s is that of restart and of stop")
	assert.Equal(t, cells.NewPalette(cells.LightGround, colorprofile.TrueColor).Current, m.Palette.Current)
}
