package tui

import (
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/output/query"
)

// filterField is the field in which one types which lines are shown. The stream goes along
// with what can be read.
type filterField struct {
	input   textinput.Model
	before  query.Filter
	problem string
}

func (m *model) filterOutput() {
	s := m.stream()
	m.open(
		&filterField{
			input: m.field(
				"only lines with  ",
				`text /expression/ !text unit=NAME run=N ripple=last level=warning`,
				s.filter.String(),
			),
			before: s.filter,
		},
	)
}

func (*filterField) name() string { return "filter" }

func (*filterField) grabs(*model) bool { return true }

func (*filterField) draw(m *model, width, height int) []string {
	return m.overview.draw(m, width, height)
}

func (f *filterField) field() *textinput.Model { return &f.input }

func (f *filterField) update(m *model, msg tea.Msg) {
	before := f.input.Value()
	if m.typed(&f.input, msg); f.input.Value() == before {
		return
	}
	filter, err := query.Parse(f.input.Value())
	if err != nil {
		f.problem = err.Error()
		return
	}
	f.problem = ""
	m.stream().use(m, filter)
}

// giveUpFilter shows what was shown before.
func (m *model) giveUpFilter() {
	m.stream().use(m, m.top().(*filterField).before)
	m.close()
}

// noFilter shows all lines again.
func (m *model) noFilter() {
	m.stream().look(m, "")
	m.stream().use(m, nil)
}
