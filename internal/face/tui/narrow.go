package tui

import (
	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/text/shellwords"
)

// narrowField is the field in which one types to which tests the selected unit is narrowed.
type narrowField struct {
	input   textinput.Model
	unit    string
	problem string
}

func (m *model) narrowUnit() {
	u := m.chosen()
	m.open(&narrowField{input: m.field("only these tests of "+u.Name+"  ", "their names", ""), unit: u.Name})
}

func (*narrowField) name() string { return "narrow" }

func (*narrowField) grabs(*model) bool { return true }

func (*narrowField) draw(m *model, width, height int) []string {
	return m.overview.draw(m, width, height)
}

func (f *narrowField) field() *textinput.Model { return &f.input }

func (f *narrowField) update(m *model, msg tea.Msg) { m.typed(&f.input, msg) }

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

func onNarrow(do func(*model, *narrowField)) func(*model) {
	return func(m *model) {
		if f, ok := m.top().(*narrowField); ok {
			do(m, f)
		}
	}
}

// hasTests reports whether the selected unit can be narrowed to some of its tests.
func (m *model) hasTests() bool {
	u := m.chosen()
	return u != nil && u.Kind != "service" && (u.Kind == "suite" || u.Report.Cases > 0)
}

// narrowed reports whether the selected unit is.
func (m *model) narrowed() bool { u := m.chosen(); return u != nil && u.Narrowed != "" }

// widen has the selected unit run all of its tests again, and takes words away that were added.
func (m *model) widen() {
	if m.narrowed() {
		m.request(api.Widen)
	}
	if m.hasWords() {
		m.setWords(m.chosen().Name, nil)
	}
}
