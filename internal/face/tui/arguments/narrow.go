package arguments

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/shellwords"
)

// narrowField asks for the tests that the selected unit is narrowed to. It completes names of known tests, and tells
// how many of them match what is typed.
type narrowField struct {
	view.Field
	unit  string
	known []api.CaseName
}

func AskTests(m *view.Model) {
	u := m.SelectedUnit()
	prompt := "only these tests of " + u.Name + "  "
	f := &narrowField{Field: m.NewField(overview.Of(m), "narrow", prompt, "names; tab completes", ""), unit: u.Name}
	f.Input.ShowSuggestions = true
	m.Open(f)
	m.Later(func(ctx context.Context) view.Then {
		page, err := m.Project.Cases(ctx, api.ResultQuery{Units: []string{u.Name}, Count: api.MaxLines})
		if err != nil {
			return m.Report(err)
		}
		return func() {
			for _, c := range page.Cases {
				f.known = append(f.known, api.CaseName{Suite: c.Suite, Name: c.Name})
			}
			f.suggest()
		}
	})
}

func (f *narrowField) Update(m *view.Model, msg tea.Msg) {
	if f.Typed(m, msg) {
		f.suggest()
	}
}

// suggest offers the names of known tests that begin with the word that is being typed.
func (f *narrowField) suggest() {
	value := f.Input.Value()
	begun := value[strings.LastIndexByte(value, ' ')+1:]
	var all []string
	for _, c := range f.known {
		if name := format.Quoted(cmp.Or(c.Name, c.Suite)); begun != "" && strings.HasPrefix(name, begun) {
			all = append(all, strings.TrimSuffix(value, begun)+name)
		}
	}
	slices.Sort(all)
	f.Input.SetSuggestions(slices.Compact(all))
}

// Status implements view.Typing.
func (f *narrowField) Status(*view.Model) string {
	words, err := shellwords.Split(f.Input.Value())
	if err != nil || len(words) == 0 {
		return ""
	}
	matched := 0
	for _, c := range f.known {
		if slices.ContainsFunc(words, func(word string) bool { return api.CaseName{Name: word}.Matches(c) }) {
			matched++
		}
	}
	if matched == 0 {
		return fmt.Sprintf("none of %s matches", format.Count(len(f.known), "known test"))
	}
	return fmt.Sprintf("%d of %s match", matched, format.Count(len(f.known), "known test"))
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
	m.Do(r)
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

// suggested is the completion of what is typed; empty: there is none.
func suggested(m *view.Model) string {
	if f, ok := m.Top().(*narrowField); ok {
		return f.Input.CurrentSuggestion()
	}
	return ""
}
