package tui

import (
	"omnivigil/internal/api"
	"omnivigil/internal/text/shellwords"
)

// narrowField asks for the tests that the selected unit is narrowed to.
type narrowField struct {
	field
	unit string
}

func narrowUnit(m *model) {
	u := m.selectedUnit()
	prompt := "only these tests of " + u.Name + "  "
	m.open(&narrowField{m.fieldOver(overviewOf(m), "narrow", prompt, "their names", ""), u.Name})
}

// submit asks for it. Names are taken apart as words of a shell are.
func (f *narrowField) submit(m *model) {
	words, err := shellwords.Split(f.input.Value())
	switch {
	case err != nil:
		f.problem = "a quote is not closed"
		return
	case len(words) == 0:
		m.close()
		return
	}
	m.close()
	r := api.Request{Action: api.Narrow, Units: []string{f.unit}}
	for _, name := range words {
		r.Cases = append(r.Cases, api.CaseName{Name: name})
	}
	m.askFor(r)
}

// hasTests reports whether the selected unit can be narrowed to some of its tests.
func hasTests(m *model) bool {
	u := m.selectedUnit()
	return u != nil && u.Kind != "service" && (u.Kind == "suite" || u.Report.Cases > 0)
}

// narrowed reports whether the selected unit is.
func narrowed(m *model) bool { u := m.selectedUnit(); return u != nil && u.Narrowed != "" }

// widen has the selected unit run all of its tests again, and takes words away that were added.
func widen(m *model) {
	if narrowed(m) {
		m.request(api.Widen)
	}
	if hasWords(m) {
		setWords(m, m.selectedUnit().Name, nil)
	}
}
