package tui

import (
	"context"
	"fmt"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
)

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
