// Package arguments has the fields that change what the selected unit runs: arguments that are added to its command,
// and tests that it is narrowed to. Start reading at Keys.
package arguments

import (
	"context"
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/shellwords"
)

// wordsField asks for arguments that are added to a unit's command for its next runs.
type wordsField struct {
	view.Field
	unit string
	at   int // index into the history; its length: a new entry
}

func addWords(m *view.Model) {
	u := m.SelectedUnit()
	const what = "arguments to add for the next runs"
	f := m.NewField(overview.Of(m), "words", u.Command+"  ", what, format.Typed(u.Words))
	m.Open(&wordsField{f, u.Name, len(m.TypedWords)})
}

// recall shows an earlier or later entry of the history.
func (f *wordsField) recall(m *view.Model, by int) {
	f.at = max(0, min(f.at+by, len(m.TypedWords)))
	text := ""
	if f.at < len(m.TypedWords) {
		text = m.TypedWords[f.at]
	}
	f.Fill(text)
}

// submit requests the arguments. They are split as by a shell, but nothing in them is expanded.
func (f *wordsField) submit(m *view.Model) {
	text := f.Input.Value()
	words, err := shellwords.Split(text)
	if err != nil {
		f.Problem = "a quote is not closed"
		return
	}
	if len(words) > 0 {
		rememberWords(m, text)
	}
	m.Close()
	if u := m.Snap.Unit(f.unit); u != nil && len(words)+len(u.Words) > 0 { // an edit may have removed the unit
		setWords(m, f.unit, words)
	}
}

// maxTyped limits the history.
const maxTyped = 100

// rememberWords makes a text the newest entry of the history.
func rememberWords(m *view.Model, text string) {
	all := append(slices.DeleteFunc(slices.Clone(m.TypedWords), func(old string) bool { return old == text }), text)
	m.TypedWords = all[max(len(all)-maxTyped, 0):]
	if remember, words := m.Remember, m.TypedWords; remember != nil {
		m.Later(func(context.Context) view.Then {
			remember(words)
			return nil
		})
	}
}

// setWords requests that a unit runs with these arguments added to its command.
func setWords(m *view.Model, unit string, words []string) {
	m.Send(api.Request{Action: api.AddWords, Units: []string{unit}, Words: words})
}

func hasWords(m *view.Model) bool { u := m.SelectedUnit(); return u != nil && len(u.Words) > 0 }

// Keys change the arguments of the selected unit.
var Keys = []view.Binding{
	{Keys: []string{"a"}, Action: "add-arguments", Name: "add arguments to its command for the next runs",
		Hint: "add arguments", Group: view.GroupUnit,
		When: func(m *view.Model) bool { return m.SelectedUnit() != nil }, Unless: "no unit is selected",
		Do: addWords},
	{Keys: []string{"d"}, Action: "remove-arguments", Name: "remove the added arguments; run all tests again",
		Hint: "run all", Group: view.GroupUnit,
		When:   func(m *view.Model) bool { return hasWords(m) || Narrowed(m) },
		Unless: "it has no added arguments, and all its tests run",
		Do:     Widen},
	{Keys: []string{"c"}, Action: "run-without-arguments", Name: "restart or rerun once without the arguments",
		Hint: "once without", Group: view.GroupUnit,
		When: hasWords, Unless: "its command has no added arguments",
		Do: func(m *view.Model) { m.AskUnit(api.RunWith) }},
}

// Bindings are those of the fields for arguments and tests.
var Bindings = []view.Binding{
	{In: "words", Keys: []string{"enter"}, Name: "run with these arguments", Hint: "run with them",
		Group: view.GroupField,
		Do:    view.On(func(m *view.Model, f *wordsField) { f.submit(m) })},
	{In: "words", Keys: []string{"up"}, Name: "previous entry", Hint: "previous", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *wordsField) { f.recall(m, -1) })},
	{In: "words", Keys: []string{"down"}, Name: "next entry", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *wordsField) { f.recall(m, 1) })},
	{In: "words", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: (*view.Model).Close},
	{In: "narrow", Keys: []string{"enter"}, Name: "run only these", Hint: "run only these", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *narrowField) { f.submit(m) })},
	{In: "narrow", Keys: []string{"tab"}, Name: "complete the name", Hint: "complete", Group: view.GroupField,
		When: func(m *view.Model) bool { return suggested(m) != "" }, Unless: "no known test begins with that",
		Do: view.On(func(m *view.Model, f *narrowField) { f.Fill(suggested(m)); f.suggest() })},
	{In: "narrow", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: (*view.Model).Close},
}
