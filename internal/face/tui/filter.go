package tui

import (
	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/output/query"
)

// filterField asks which lines are shown. The stream follows as soon as what is typed can be parsed.
type filterField struct {
	field
	before query.Filter
}

func (m *model) filterOutput() {
	s := m.stream()
	const examples = `text /expression/ !text unit=NAME run=N ripple=last level=warning`
	m.open(&filterField{m.fieldOver(&m.overview, "filter", "only lines with  ", examples, s.filter.String()), s.filter})
}

func (f *filterField) update(m *model, msg tea.Msg) {
	if !f.typed(m, msg) {
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

// cancel shows what was shown before.
func (f *filterField) cancel(m *model) {
	m.stream().use(m, f.before)
	m.close()
}

// noFilter shows all lines again.
func (m *model) noFilter() {
	m.stream().look(m, "")
	m.stream().use(m, nil)
}
