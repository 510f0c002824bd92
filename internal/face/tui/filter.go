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

func filterOutput(m *model) {
	s := focused(m)
	const examples = `text /expression/ !text unit=NAME run=N ripple=last level=warning`
	m.open(&filterField{m.fieldOver(overviewOf(m), "filter", "only lines with  ", examples, s.filter.String()), s.filter})
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
	focused(m).use(m, filter)
}

// cancel shows what was shown before.
func (f *filterField) cancel(m *model) {
	focused(m).use(m, f.before)
	m.close()
}

// noFilter shows all lines again.
func noFilter(m *model) {
	focused(m).look(m, "")
	focused(m).use(m, nil)
}
