package overview

import (
	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
)

// filterField asks which lines are shown. The stream changes while the user types.
type filterField struct {
	view.Field
	before query.Filter
}

func FilterOutput(m *view.Model) {
	s := Focused(m)
	const examples = `text /expression/ !text unit=NAME run=N ripple=last level=warning`
	m.Open(&filterField{m.NewField(Of(m), "filter", "only lines with  ", examples, s.Filter.String()), s.Filter})
}

func (f *filterField) Update(m *view.Model, msg tea.Msg) {
	if !f.Typed(m, msg) {
		return
	}
	filter, err := query.Parse(f.Input.Value())
	if err != nil {
		f.Problem = err.Error()
		return
	}
	f.Problem = ""
	Focused(m).Use(m, filter)
}

// cancel restores the filter from before.
func (f *filterField) cancel(m *view.Model) {
	Focused(m).Use(m, f.before)
	m.Close()
}

// noFilter removes the filter and the search.
func noFilter(m *view.Model) {
	Focused(m).Search(m, "")
	Focused(m).Use(m, nil)
}
