package results

import (
	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/arguments"
	"omnivigil/internal/face/tui/view"
)

// noTrouble is why the keys for locations do nothing.
const noTrouble = "nothing has failed, and nothing is reported"

// Keys are about tests and findings, in every view.
var Keys = []view.Binding{
	{Keys: []string{"T"}, Action: "tests", Name: "tests: failing ones first", Hint: "tests", Group: view.GroupView,
		When: anyTests, Unless: "no unit reports tests", Do: showTests},
	{Keys: []string{"F"}, Action: "findings", Name: "findings: what compilers and linters report", Hint: "findings",
		Group: view.GroupView, When: anyFindings, Unless: "nothing is reported", Do: showFindings},
	{Keys: []string{">"}, Action: "next-location", Name: "next location of a failure or finding",
		Hint: "next location", Group: view.GroupResults, When: anyTrouble, Unless: noTrouble,
		Do: func(m *view.Model) { seekTrouble(m, 1) }},
	{Keys: []string{"<"}, Action: "previous-location", Name: "previous location", Group: view.GroupResults,
		When: anyTrouble, Unless: noTrouble, Do: func(m *view.Model) { seekTrouble(m, -1) }},
	{Keys: []string{"e"}, Action: "edit", Name: "open the location in the editor", Hint: "editor",
		Group: view.GroupResults,
		When:  anyTrouble, Unless: noTrouble, Do: editTrouble},
	{Keys: []string{"t"}, Action: "narrow", Name: "narrow the selected suite to some tests", Group: view.GroupResults,
		When: arguments.HasTests, Unless: "it has no tests", Do: arguments.AskTests},
	{Keys: []string{"x"}, Action: "narrow-failing", Name: "narrow the selected suite to its failing tests",
		Group:  view.GroupResults,
		When:   func(m *view.Model) bool { u := m.SelectedUnit(); return arguments.HasTests(m) && u.Report.Failed > 0 },
		Unless: "none of its tests fails",
		Do: func(m *view.Model) {
			m.Send(api.Request{Action: api.Narrow, Units: []string{m.SelectedUnit().Name}, Failing: true})
		}},
}

// Bindings are those of the views of tests and findings, and of the field that searches them.
var Bindings = []view.Binding{
	{In: "tests", Keys: []string{"up", "k"}, Name: "previous test", Hint: "select", Group: view.GroupTests,
		Do: view.On(func(_ *view.Model, t *tests) { t.list.Move(-1) })},
	{In: "tests", Keys: []string{"down", "j"}, Name: "next test", Group: view.GroupTests,
		Do: view.On(func(_ *view.Model, t *tests) { t.list.Move(1) })},
	{In: "tests", Keys: []string{"shift+up"}, Name: "10 tests up", Group: view.GroupTests,
		Do: view.On(func(_ *view.Model, t *tests) { t.list.Move(-10) })},
	{In: "tests", Keys: []string{"shift+down"}, Name: "10 tests down", Group: view.GroupTests,
		Do: view.On(func(_ *view.Model, t *tests) { t.list.Move(10) })},
	{In: "tests", Keys: []string{"home", "g"}, Name: "first test", Group: view.GroupTests,
		Do: view.On(func(_ *view.Model, t *tests) { t.list.At = 0 })},
	{In: "tests", Keys: []string{"end", "G"}, Name: "last test", Group: view.GroupTests,
		Do: view.On(func(_ *view.Model, t *tests) { t.list.Move(t.list.Total) })},
	{In: "tests", Keys: []string{"pgup"}, Name: "scroll its output up", Group: view.GroupTests,
		Do: view.On(func(_ *view.Model, t *tests) { t.scroll -= 8 })},
	{In: "tests", Keys: []string{"pgdown"}, Name: "scroll its output down", Group: view.GroupTests,
		Do: view.On(func(_ *view.Model, t *tests) { t.scroll += 8 })},
	{In: "tests", Keys: []string{"r", "enter"}, Name: "run this test, or the marked ones", Hint: "run this test",
		Group: view.GroupTests, Do: view.On(func(m *view.Model, t *tests) { t.run(m) })},
	{In: "tests", Keys: []string{"space"}, Name: "mark the line", Hint: "mark", Group: view.GroupTests,
		Do: view.On(func(m *view.Model, t *tests) { t.mark(m) })},
	{In: "tests", Keys: []string{"t"}, Name: "run only the tests of this file", Hint: "its file",
		Group: view.GroupTests, Do: view.On(func(m *view.Model, t *tests) { t.runFile(m) })},
	{In: "tests", Keys: []string{"x"}, Name: "run only the failing tests", Hint: "only failing", Group: view.GroupTests,
		Do: view.On(func(m *view.Model, t *tests) { t.runFailing(m) })},
	{In: "tests", Keys: []string{"d"}, Name: "run all tests again", Hint: "run all", Group: view.GroupTests,
		When: arguments.Narrowed, Unless: "all tests run already", Do: arguments.Widen},
	{In: "tests", Keys: []string{"e"}, Name: "open in the editor", Hint: "editor", Group: view.GroupTests,
		Do: view.On(func(m *view.Model, t *tests) { t.edit(m) })},
	{In: "tests", Keys: []string{"f"}, Name: "filter: failing, new, flaky, slow, skipped",
		Hint: "filter", Group: view.GroupTests, Do: view.On(func(m *view.Model, t *tests) { t.next(m) })},
	{In: "tests", Keys: []string{"/"}, Name: "search for a name", Hint: "search", Group: view.GroupTests,
		Do: view.On(func(m *view.Model, t *tests) { t.find(m) })},
	{In: "tests", Keys: []string{"w"}, Name: "write all results to a file", Group: view.GroupTests, Do: writeResults},
	{In: "tests", Keys: []string{"esc", "q", "T"}, Name: "back to the lanes", Hint: "back", Group: view.GroupTests,
		Do: (*view.Model).BackToLanes},
	{In: "findings", Keys: []string{"up", "k", "<"}, Name: "previous finding", Hint: "select",
		Group: view.GroupFindings,
		Do:    view.On(func(_ *view.Model, f *findings) { f.list.Move(-1) })},
	{In: "findings", Keys: []string{"down", "j", ">"}, Name: "next finding", Group: view.GroupFindings,
		Do: view.On(func(_ *view.Model, f *findings) { f.list.Move(1) })},
	{In: "findings", Keys: []string{"shift+up", "pgup"}, Name: "10 findings up", Group: view.GroupFindings,
		Do: view.On(func(_ *view.Model, f *findings) { f.list.Move(-10) })},
	{In: "findings", Keys: []string{"shift+down", "pgdown"}, Name: "10 findings down", Group: view.GroupFindings,
		Do: view.On(func(_ *view.Model, f *findings) { f.list.Move(10) })},
	{In: "findings", Keys: []string{"home", "g"}, Name: "first finding", Group: view.GroupFindings,
		Do: view.On(func(_ *view.Model, f *findings) { f.list.At = 0 })},
	{In: "findings", Keys: []string{"end", "G"}, Name: "last finding", Group: view.GroupFindings,
		Do: view.On(func(_ *view.Model, f *findings) { f.list.Move(f.list.Total) })},
	{In: "findings", Keys: []string{"e", "enter"}, Name: "open in the editor", Hint: "editor",
		Group: view.GroupFindings, Do: view.On(func(m *view.Model, f *findings) { f.edit(m) })},
	{In: "findings", Keys: []string{"o"}, Name: "sort by file or by unit", Hint: "by unit", Group: view.GroupFindings,
		Do: view.On(func(_ *view.Model, f *findings) { f.regroup() })},
	{In: "findings", Keys: []string{"f"}, Name: "filter: all, errors, warnings, new, gone", Hint: "filter",
		Group: view.GroupFindings, Do: view.On(func(m *view.Model, f *findings) { f.next(m) })},
	{In: "findings", Keys: []string{"/"}, Name: "search for a file, rule or message", Hint: "search",
		Group: view.GroupFindings, Do: view.On(func(m *view.Model, f *findings) { f.find(m) })},
	{In: "findings", Keys: []string{"w"}, Name: "write all results to a file", Group: view.GroupFindings,
		Do: writeResults},
	{In: "findings", Keys: []string{"esc", "q", "F"}, Name: "back to the lanes", Hint: "back",
		Group: view.GroupFindings, Do: (*view.Model).BackToLanes},
	{In: "seek", Keys: []string{"enter"}, Name: "keep", Hint: "keep", Group: view.GroupField, Do: (*view.Model).Close},
	{In: "seek", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *seekField) { f.cancel(m) })},
}
