package overview

import (
	"fmt"
	"slices"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/lanes"
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

// runOnly makes the units that the filter of the lanes shows the only ones that run or, without a filter, enables
// everything again.
func runOnly(m *view.Model) {
	var units []string
	if m.Filter != "" {
		for _, u := range m.Snap.Units {
			if lanes.Matches(m, u, m.Filter) {
				units = append(units, u.Name)
			}
		}
		if len(units) == 0 {
			m.Said = fmt.Sprintf("no unit has %q in its name, kind, state or groups", m.Filter)
			return
		}
	}
	RunOnly(m, units)
}

// RunOnly requests that only these units run, with what they need; without any, everything.
func RunOnly(m *view.Model, units []string) {
	m.Do(api.Request{Action: api.Only, Units: units})
}

// showAll removes the filter.
func showAll(m *view.Model) {
	m.Filter = ""
	m.Close()
}
