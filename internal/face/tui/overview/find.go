package overview

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
)

// find is the field that filters the lanes while the user types.
type find struct{ view.Field }

func FindUnits(m *view.Model) {
	m.Open(&find{m.NewField(Of(m), "find", "units with  ", "a name, kind, state or group", m.Filter)})
}

// Update filters the lanes. The selected unit is always one that is shown.
func (f *find) Update(m *view.Model, msg tea.Msg) {
	f.Typed(m, msg)
	m.Filter = f.Input.Value()
	shown := Of(m).Lanes.Visible(m)
	if len(shown) > 0 && !slices.ContainsFunc(shown, func(u *api.Unit) bool { return u.Name == m.Selected }) {
		m.Selected = shown[0].Name
	}
}

// showAll removes the filter.
func showAll(m *view.Model) {
	m.Filter = ""
	m.Close()
}
