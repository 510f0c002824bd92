package tui

import (
	"testing"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api/past"
)

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
