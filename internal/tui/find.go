package tui

import (
	"slices"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/engine"
)

// find is the field that filters the lanes by name while one types.
type find struct {
	open  bool
	input textinput.Model
}

func newFind() find {
	in := textinput.New()
	in.Prompt = "units with  "
	in.Placeholder = "a part of the name"
	return find{input: in}
}

func (f *find) show(m *model) {
	f.open = true
	f.input.SetValue(m.lanes.filter)
	f.input.SetWidth(max(min(m.width-56, 40), 8))
	m.pending = f.input.Focus()
}

// key handles a key while the field is open. The chosen unit is one that is shown.
func (f *find) key(m *model, msg tea.KeyPressMsg) {
	switch msg.String() {
	case "esc", "ctrl+c":
		f.open, m.lanes.filter = false, ""
		return
	case "enter":
		f.open = false
		return
	case "up":
		m.lanes.move(m, -1)
		return
	case "down":
		m.lanes.move(m, 1)
		return
	}
	f.input, m.pending = f.input.Update(msg)
	m.lanes.filter = f.input.Value()
	if shown, _ := m.lanes.visible(m, m.laneRoom()); len(shown) > 0 && !slices.ContainsFunc(shown, func(u *engine.Unit) bool { return u.Name == m.lanes.unit }) {
		m.lanes.unit = shown[0].Name
	}
}
