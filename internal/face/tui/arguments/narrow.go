package arguments

import (
	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/shellwords"
)

// narrowField asks for the tests that the selected unit is narrowed to.
type narrowField struct {
	view.Field
	unit string
}

func AskTests(m *view.Model) {
	u := m.SelectedUnit()
	prompt := "only these tests of " + u.Name + "  "
	m.Open(&narrowField{m.NewField(overview.Of(m), "narrow", prompt, "their names", ""), u.Name})
}

// submit requests it. Names are split as by a shell.
func (f *narrowField) submit(m *view.Model) {
	words, err := shellwords.Split(f.Input.Value())
	switch {
	case err != nil:
		f.Problem = "a quote is not closed"
		return
	case len(words) == 0:
		m.Close()
		return
	}
	m.Close()
	r := api.Request{Action: api.Narrow, Units: []string{f.unit}}
	for _, name := range words {
		r.Cases = append(r.Cases, api.CaseName{Name: name})
	}
	m.Send(r)
}

// HasTests reports whether the selected unit has tests, so that it can be narrowed.
func HasTests(m *view.Model) bool {
	u := m.SelectedUnit()
	return u != nil && u.Kind != "service" && (u.Kind == "suite" || u.Report.Cases > 0)
}

// Narrowed reports whether the selected unit is narrowed to some of its tests.
func Narrowed(m *view.Model) bool { u := m.SelectedUnit(); return u != nil && u.Narrowed != "" }

// Widen lets the selected unit run all of its tests again, and removes the arguments that were added.
func Widen(m *view.Model) {
	if Narrowed(m) {
		m.AskUnit(api.Widen)
	}
	if hasWords(m) {
		setWords(m, m.SelectedUnit().Name, nil)
	}
}
