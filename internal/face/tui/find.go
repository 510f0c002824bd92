package tui

import (
	"slices"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
)

// find is the field that filters the lanes by name while one types.
type find struct{ input textinput.Model }

func (m *model) findUnits() {
	in := textinput.New()
	in.Prompt = "units with  "
	in.Placeholder = "a name, kind, state or group"
	in.SetValue(m.overview.lanes.filter)
	in.SetWidth(max(min(m.width-56, 40), 8))
	m.cmds = append(m.cmds, in.Focus())
	m.open(&find{in})
}

func (f *find) field() *textinput.Model { return &f.input }

func (*find) name() string { return "find" }

func (*find) grabs(*model) bool { return true }

func (*find) draw(m *model, width, height int) []string { return m.overview.draw(m, width, height) }

// update takes what is typed. The selected unit is one that is shown.
func (f *find) update(m *model, msg tea.Msg) {
	var cmd tea.Cmd
	f.input, cmd = f.input.Update(msg)
	m.cmds = append(m.cmds, cmd)
	lanes := &m.overview.lanes
	lanes.filter = f.input.Value()
	shown, _ := lanes.visible(m, m.laneRoom())
	if len(shown) > 0 && !slices.ContainsFunc(shown, func(u *api.Unit) bool { return u.Name == m.selected }) {
		m.selected = shown[0].Name
	}
}

// showAll takes the filter away.
func (m *model) showAll() {
	m.overview.lanes.filter = ""
	m.close()
}
