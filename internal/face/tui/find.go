package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
)

// find is the field that filters the lanes while the user types.
type find struct{ field }

func findUnits(m *model) {
	m.open(&find{m.fieldOver(overviewOf(m), "find", "units with  ", "a name, kind, state or group", m.filter)})
}

// update takes what is typed. The selected unit is one that is shown.
func (f *find) update(m *model, msg tea.Msg) {
	f.typed(m, msg)
	lanes := &overviewOf(m).lanes
	m.filter = f.input.Value()
	shown, _ := lanes.visible(m, laneRoom(m))
	if len(shown) > 0 && !slices.ContainsFunc(shown, func(u *api.Unit) bool { return u.Name == m.selected }) {
		m.selected = shown[0].Name
	}
}

// showAll removes the filter.
func showAll(m *model) {
	m.filter = ""
	m.close()
}
