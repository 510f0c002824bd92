package timeline

import (
	"fmt"
	"slices"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"omnivigil/internal/api"
)

// randomProject returns units that need and follow some of the units before them.
func randomProject(t *rapid.T) *api.Snapshot {
	snap := &api.Snapshot{}
	n := rapid.IntRange(0, 60).Draw(t, "units")
	for i := range n {
		u := &api.Unit{Name: fmt.Sprintf("u%d", i), Kind: "service", State: api.Ready, Wanted: true}
		for range rapid.IntRange(0, 3).Draw(t, "links") {
			if i == 0 {
				break
			}
			name := fmt.Sprintf("u%d", rapid.IntRange(max(0, i-12), i-1).Draw(t, "on"))
			if rapid.Bool().Draw(t, "follows") {
				u.Follows = append(u.Follows, name)
			} else {
				u.Needs = append(u.Needs, name)
			}
		}
		snap.Units = append(snap.Units, u)
	}
	return snap
}

// TestMap lays out random projects: every unit has exactly one box, no two boxes overlap, and links lead to the right
// along existing rows and tracks without crossing a box.
func TestMap(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		snap := randomProject(t)
		m := MapOf(snap, MapOptions{Rows: rapid.SampledFrom([]int{0, 10}).Draw(t, "rows")})
		seen := map[string]bool{}
		places := map[[2]int]bool{}
		for _, b := range m.Boxes {
			for _, u := range b.Units {
				require.False(t, seen[u.Name])
				seen[u.Name] = true
			}
			place := [2]int{b.Layer, b.Row}
			require.False(t, places[place], "two boxes at %v", place)
			places[place] = true
			require.Less(t, b.Row, m.Rows)
			require.Less(t, b.Layer, m.Layers)
		}
		require.Len(t, seen, len(snap.Units))
		for _, k := range m.Links {
			from, to := m.Boxes[k.From], m.Boxes[k.To]
			require.Len(t, k.Steps, to.Layer-from.Layer)
			row := from.Row
			for i, s := range k.Steps {
				require.Equal(t, from.Layer+i, s.Layer)
				require.Equal(t, row, s.In)
				if s.In != s.Out {
					require.Less(t, s.Track, m.Tracks[s.Layer])
				}
				if row = s.Out; i+1 < len(k.Steps) {
					require.False(t, places[[2]int{s.Layer + 1, row}], "a link goes through a box")
				}
			}
			require.Equal(t, to.Row, row)
		}
		for _, u := range snap.Units {
			for _, on := range slices.Concat(u.Needs, u.Follows) {
				linked := slices.ContainsFunc(m.Links, func(k Link) bool {
					return m.Boxes[k.From].Has(on) && m.Boxes[k.To].Has(u.Name)
				})
				require.True(t, linked, "%s, %s", on, u.Name)
			}
		}
	})
}

// TestFolding folds similar units that do not fit, and never a unit that must stay visible.
func TestFolding(t *testing.T) {
	snap := &api.Snapshot{Units: []*api.Unit{{Name: "db", State: api.Ready}}}
	for i := range 20 {
		snap.Units = append(
			snap.Units,
			&api.Unit{Name: fmt.Sprintf("api%d", i), State: api.Ready, Needs: []string{"db"}},
		)
	}
	snap.Units[3].State = api.Crashed
	m := MapOf(snap, MapOptions{Rows: 10, Keep: func(u *api.Unit) bool { return u.State.Broken() || u.Name == "api5" }})
	var names []string
	for _, b := range m.Boxes {
		names = append(names, b.Name())
	}
	assert.ElementsMatch(t, []string{"db", "18 units", "api2", "api5"}, names)
	assert.Len(t, MapOf(snap, MapOptions{Rows: 30}).Boxes, 21)
	assert.Len(t, MapOf(snap, MapOptions{Only: Around(snap, "api4")}).Boxes, 2)
}

func TestIfRestarted(t *testing.T) {
	u := func(name, kind string, follows ...string) *api.Unit {
		return &api.Unit{Name: name, Kind: kind, Wanted: true, Follows: follows}
	}
	snap := &api.Snapshot{
		Units: []*api.Unit{
			u("site", "service", "pages"),
			u("pages", "task", "fares"),
			u("fares", "task"),
			u("other", "service"),
			u("late", "service", "pages"),
		},
	}
	snap.Units[4].Paused = true
	assert.Equal(t, []api.Step{
		{Unit: "fares", Does: "reruns", Because: "request"},
		{Unit: "pages", Does: "reruns", Because: "it follows fares"},
		{Unit: "site", Does: "restarts", Because: "it follows pages"},
	}, IfRestarted(snap, "fares"))
	assert.Nil(t, IfRestarted(snap, "nobody"))
}
