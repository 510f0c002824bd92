package tui

import (
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
)

// bindings is the table. It follows one rule: small letters act on the selected unit, capital
// letters change the view, signs and paging are for the stream, arrows move; anything for
// all holds ctrl.
var bindings []view.Binding

func init() { // what the bindings do leads back to the table
	bindings = slices.Concat(unitKeys, viewKeys, resultKeys, moreUnitKeys, terminalKeys, handKeys, projectKeys,
		timeKeys, streamKeys, screenKeys, wordKeys, panelKeys, resultViewKeys, rippleKeys, unitViewKeys, mapKeys,
		chartKeys, fieldKeys)
	for i := range bindings {
		if bindings[i].In == "" {
			bindings[i].In = "overview"
		}
	}
}

var unitKeys = []view.Binding{
	{Keys: []string{"up", "k"}, Action: "previous-unit", Name: "previous unit", Hint: "select", Group: view.GroupUnit,
		When: several, Do: func(m *view.Model) { overviewOf(m).lanes.Move(m, -1) }},
	{Keys: []string{"down", "j"}, Action: "next-unit", Name: "next unit", Group: view.GroupUnit,
		Do: func(m *view.Model) { overviewOf(m).lanes.Move(m, 1) }},
	{Keys: []string{"!"}, Action: "next-broken", Name: "next broken unit", Hint: "next broken",
		Group: view.GroupUnit,
		When:  lanes.AnyBroken, Do: func(m *view.Model) { overviewOf(m).lanes.NextBroken(m) }},
	{Keys: []string{"f"}, Action: "find-units", Name: "find units by name, kind, state or group", Group: view.GroupUnit,
		Do: findUnits},
	{Keys: []string{"r"}, Action: "restart", Name: "restart or rerun it; start it if it is stopped",
		Hint: "restart", Group: view.GroupUnit,
		Do: func(m *view.Model) { m.AskUnit(api.Restart) }},
	{Keys: []string{"u"}, Action: "restart-with-setup", Name: "restart or rerun it with its setup steps", Group: view.GroupUnit,
		Do: func(m *view.Model) { m.AskUnit(api.SetUp) }},
	{Keys: []string{"s"}, Action: "stop", Name: "stop it", Hint: "stop", Group: view.GroupUnit,
		When: func(m *view.Model) bool { u := m.SelectedUnit(); return u != nil && u.Wanted },
		Do:   func(m *view.Model) { m.AskUnit(api.Stop) }},
}

// moreUnitKeys come after those for results, for which there is room on the bottom line first.
var moreUnitKeys = []view.Binding{
	{Keys: []string{"p"}, Action: "pause", Name: "pause its reactions to changes, or resume them", Hint: "pause",
		Group: view.GroupUnit,
		Do:    func(m *view.Model) { m.AskUnit(pauseOrResume(m)) }},
	{Keys: []string{"b"}, Action: "open-in-browser", Name: "open its address in the browser", Group: view.GroupUnit,
		When: func(m *view.Model) bool { return len(addresses(m).Addresses) > 0 }, Do: browse},
	{Keys: []string{"y"}, Action: "why", Name: "explain its state, and what a save would do", Hint: "why",
		Group: view.GroupUnit, Do: askWhy},
	{Keys: []string{"l"}, Action: "loop", Name: "loop: decide what it reacts to", Hint: "loop",
		Group: view.GroupUnit,
		When:  func(m *view.Model) bool { u := m.SelectedUnit(); return looping(m) != nil || u != nil && u.Loop != nil },
		Do:    showLoop},
	{Keys: []string{"enter"}, Action: "only-its-output", Name: "show only its output, or all",
		Hint: "only its output", Group: view.GroupUnit, When: several,
		Do: func(m *view.Model) { focused(m).Only(m) }},
}

var projectKeys = []view.Binding{
	{Keys: []string{"ctrl+r"}, Action: "restart-all", Name: "restart and rerun everything", Group: view.GroupProject,
		Do: func(m *view.Model) { m.Ask(api.Restart) }},
	{Keys: []string{"D"}, Action: "doubts", Name: "list the doubts about the verdict", Hint: "doubts", Group: view.GroupProject,
		When: func(m *view.Model) bool { return len(m.Snap.Doubts) > 0 }, Do: showDoubts},
	{Keys: []string{"ctrl+p"}, Action: "pause-all", Name: "pause all reactions, or resume them", Group: view.GroupProject,
		Do: func(m *view.Model) { m.Ask(pauseOrResumeAll(m)) }},
	{Keys: []string{"q", "ctrl+c"}, Action: "quit", Name: "quit: stop everything in order; again: at once",
		Hint: "quit", Group: view.GroupProject, Do: quit},
}

var timeKeys = []view.Binding{
	{Keys: []string{"left"}, Action: "time-back", Name: "go back in time", Hint: "time", Group: view.GroupTime,
		Do: func(m *view.Model) { moveTime(m, -1) }},
	{Keys: []string{"right"}, Action: "time-forward", Name: "go forward in time", Group: view.GroupTime,
		Do: func(m *view.Model) { moveTime(m, 1) }},
	{Keys: []string{"["}, Action: "previous-save", Name: "previous save", Group: view.GroupTime,
		Do: func(m *view.Model) { moveSave(m, -1) }},
	{Keys: []string{"]"}, Action: "next-save", Name: "next save", Group: view.GroupTime,
		Do: func(m *view.Model) { moveSave(m, 1) }},
	{Keys: []string{".", "esc", "end", "G"}, Action: "now", Name: "back to now", Hint: "now", Group: view.GroupTime,
		When: func(m *view.Model) bool { return !atNow(m) }, Do: func(m *view.Model) { backToNow(m) }},
	{Keys: []string{"+", "="}, Action: "zoom-in", Name: "zoom in", Hint: "zoom", Group: view.GroupTime,
		Do: func(m *view.Model) { zoom(m, -1) }},
	{Keys: []string{"-"}, Action: "zoom-out", Name: "zoom out", Group: view.GroupTime,
		Do: func(m *view.Model) { zoom(m, 1) }},
}

var streamKeys = []view.Binding{
	{Keys: []string{"pgup", "ctrl+u"}, Action: "scroll-up", Name: "scroll up", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).Pages(-1) }},
	{Keys: []string{"pgdown", "ctrl+d", "space"}, Action: "scroll-down", Name: "scroll down", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).Pages(1) }},
	{Keys: []string{"shift+up"}, Action: "line-up", Name: "scroll up one line", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).Scroll(-1) }},
	{Keys: []string{"shift+down"}, Action: "line-down", Name: "scroll down one line", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).Scroll(1) }},
	{Keys: []string{"home", "g"}, Action: "first-line", Name: "first line", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).First() }},
	{Keys: []string{"("}, Action: "previous-run", Name: "previous run", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).Jump(m, query.Start, -1) }},
	{Keys: []string{")"}, Action: "next-run", Name: "next run", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).Jump(m, query.Start, 1) }},
	{Keys: []string{"{"}, Action: "previous-failure", Name: "previous failure", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).Jump(m, query.Failure, -1) }},
	{Keys: []string{"}"}, Action: "next-failure", Name: "next failure", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).Jump(m, query.Failure, 1) }},
	{Keys: []string{"/"}, Action: "search", Name: "search the output", Hint: "search",
		Group: view.GroupStream, Do: searchOutput},
	{Keys: []string{"n"}, Action: "next-match", Name: "next match", Hint: "next match", Group: view.GroupStream,
		When: looking, Do: func(m *view.Model) { focused(m).Next(m, 1) }},
	{Keys: []string{"N"}, Action: "previous-match", Name: "previous match", Group: view.GroupStream, When: looking,
		Do: func(m *view.Model) { focused(m).Next(m, -1) }},
	{Keys: []string{"&"}, Action: "filter", Name: "filter lines by text, unit, run or level",
		Hint: "filter", Group: view.GroupStream, Do: filterOutput},
	{Keys: []string{"^"}, Action: "last-save", Name: "show only the last save's output, or all",
		Group: view.GroupStream, Do: func(m *view.Model) { focused(m).LastSave(m) }},
	{Keys: []string{"~"}, Action: "level", Name: "show warnings and errors, errors, or all", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).Level(m) }},
	{Keys: []string{"backspace"}, Action: "show-all", Name: "show all lines and end the search",
		Hint: "show all", Group: view.GroupStream,
		When: func(m *view.Model) bool { return len(focused(m).Filter) > 0 || looking(m) }, Do: noFilter},
	{Keys: []string{"\""}, Action: "select-lines", Name: "select lines to copy, mark or open",
		Hint: "select lines", Group: view.GroupStream, Do: pick},
	{Keys: []string{"'"}, Action: "previous-mark", Name: "previous marked line", Group: view.GroupStream,
		Do: previousMark},
	{Keys: []string{"%"}, Action: "write-output", Name: "write the output as text, JSON lines or HTML",
		Group: view.GroupStream, Do: saveOutput},
	{Keys: []string{"@"}, Action: "times", Name: "times: of day, since the save, since a line", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).NextTimes() }},
	{Keys: []string{"#"}, Action: "raw", Name: "JSON and logfmt: raw or as columns", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).ToggleRaw() }},
	{Keys: []string{"\\"}, Action: "wrap", Name: "cut long lines, or wrap them", Group: view.GroupStream,
		Do: func(m *view.Model) { focused(m).ToggleWrap() }},
	{Keys: []string{"*"}, Action: "second-stream", Name: "toggle a second stream, next to it or below",
		Group: view.GroupStream,
		Do:    func(m *view.Model) { overviewOf(m).split(m) }},
	{Keys: []string{"tab"}, Action: "other-stream", Name: "switch to the other stream", Hint: "other stream",
		Group: view.GroupStream,
		When:  func(m *view.Model) bool { return len(overviewOf(m).streams) > 1 }, Do: func(m *view.Model) { overviewOf(m).other() }},
}

// several reports whether there is more than one unit.
func several(m *view.Model) bool { return len(m.Snap.Units) > 1 }

// looking reports whether something is looked for.
func looking(m *view.Model) bool { return focused(m).IsSearching() }

var screenKeys = []view.Binding{
	{Keys: []string{"|"}, Action: "lane-height", Name: "height of the lanes: half, a quarter, most", Group: view.GroupScreen,
		Do: func(m *view.Model) { overviewOf(m).lanes.NextHeight() }},
	{Keys: []string{"o"}, Action: "sort-lanes", Name: "sort lanes by file, need or problem", Group: view.GroupScreen,
		When: several, Do: func(m *view.Model) { overviewOf(m).lanes.NextOrder(m) }},
	{Keys: []string{"z"}, Action: "fold", Name: "fold or unfold quiet units", Group: view.GroupScreen,
		When: several,
		Do:   func(m *view.Model) { overviewOf(m).lanes.Fold() }},
	{Keys: []string{"w"}, Action: "write-drawing", Name: "write the view as SVG or PDF",
		Group: view.GroupScreen,
		When:  func(m *view.Model) bool { return drawable(m) != "" }, Do: askDrawing},
	{Keys: []string{"m"}, Action: "mouse", Name: "mouse: select text or control the screen", Group: view.GroupScreen,
		Do: toggleMouse},
	{Keys: []string{"ctrl+z"}, Action: "suspend", Name: "suspend this screen (fg resumes it)",
		Group: view.GroupScreen, Do: suspend},
	{Keys: []string{"?"}, Action: "help", Name: "toggle this help", Hint: "help", Group: view.GroupScreen,
		Do: toggleHelp},
}

// wordKeys add words to a command. They come last: where there is room, the bottom line has them.
var wordKeys = []view.Binding{
	{Keys: []string{"a"}, Action: "add-arguments", Name: "add arguments to its command for the next runs",
		Hint: "add arguments", Group: view.GroupUnit,
		When: func(m *view.Model) bool { return m.SelectedUnit() != nil }, Do: addWords},
	{Keys: []string{"d"}, Action: "remove-arguments", Name: "remove the added arguments; run all tests again",
		Hint: "run all", Group: view.GroupUnit,
		When: func(m *view.Model) bool { return hasWords(m) || narrowed(m) }, Do: widen},
	{Keys: []string{"c"}, Action: "run-without-arguments", Name: "restart or rerun once without the arguments",
		Hint: "once without", Group: view.GroupUnit,
		When: hasWords, Do: func(m *view.Model) { m.AskUnit(api.RunWith) }},
}

// resultKeys are about tests and findings, from the overview.
var resultKeys = []view.Binding{
	{Keys: []string{"T"}, Action: "tests", Name: "tests: failing ones first", Hint: "tests", Group: view.GroupView,
		When: anyTests, Do: showTests},
	{Keys: []string{"F"}, Action: "findings", Name: "findings: what compilers and linters report", Hint: "findings",
		Group: view.GroupView, When: anyFindings, Do: showFindings},
	{Keys: []string{">"}, Action: "next-location", Name: "next location of a failure or finding",
		Hint: "next location", Group: view.GroupResults, When: anyTrouble,
		Do: func(m *view.Model) { seekTrouble(m, 1) }},
	{Keys: []string{"<"}, Action: "previous-location", Name: "previous location", Group: view.GroupResults,
		When: anyTrouble, Do: func(m *view.Model) { seekTrouble(m, -1) }},
	{Keys: []string{"e"}, Action: "edit", Name: "open the location in the editor", Hint: "editor", Group: view.GroupResults,
		When: anyTrouble, Do: editTrouble},
	{Keys: []string{"t"}, Action: "narrow", Name: "narrow the selected suite to some tests", Group: view.GroupResults,
		When: hasTests, Do: narrowUnit},
	{Keys: []string{"x"}, Action: "narrow-failing", Name: "narrow the selected suite to its failing tests",
		Group: view.GroupResults,
		When:  func(m *view.Model) bool { u := m.SelectedUnit(); return hasTests(m) && u.Report.Failed > 0 },
		Do: func(m *view.Model) {
			m.Send(api.Request{Action: api.Narrow, Units: []string{m.SelectedUnit().Name}, Failing: true})
		}},
}

// resultViewKeys are those of the views of tests and findings.
var resultViewKeys = []view.Binding{
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
	{In: "tests", Keys: []string{"r", "enter"}, Name: "run this test, or the marked ones", Hint: "run only it",
		Group: view.GroupTests, Do: view.On(func(m *view.Model, t *tests) { t.run(m) })},
	{In: "tests", Keys: []string{"space"}, Name: "mark the line", Hint: "mark", Group: view.GroupTests,
		Do: view.On(func(m *view.Model, t *tests) { t.mark(m) })},
	{In: "tests", Keys: []string{"f"}, Name: "run the tests of this file", Hint: "its file", Group: view.GroupTests,
		Do: view.On(func(m *view.Model, t *tests) { t.runFile(m) })},
	{In: "tests", Keys: []string{"x"}, Name: "run only the failing tests", Hint: "only failing", Group: view.GroupTests,
		Do: view.On(func(m *view.Model, t *tests) { t.runFailing(m) })},
	{In: "tests", Keys: []string{"d"}, Name: "run all tests again", Hint: "run all", Group: view.GroupTests,
		When: narrowed, Do: widen},
	{In: "tests", Keys: []string{"e"}, Name: "open in the editor", Hint: "editor", Group: view.GroupTests,
		Do: view.On(func(m *view.Model, t *tests) { t.edit(m) })},
	{In: "tests", Keys: []string{"o"}, Name: "filter: failing, new, flaky, slow, skipped",
		Hint: "filter", Group: view.GroupTests, Do: view.On(func(m *view.Model, t *tests) { t.next(m) })},
	{In: "tests", Keys: []string{"/"}, Name: "search for a name", Hint: "search", Group: view.GroupTests,
		Do: view.On(func(m *view.Model, t *tests) { t.find(m) })},
	{In: "tests", Keys: []string{"w"}, Name: "write all results to a file", Group: view.GroupTests, Do: writeResults},
	{In: "tests", Keys: []string{"esc", "T"}, Name: "back to the lanes", Hint: "back", Group: view.GroupTests,
		Do: (*view.Model).BackToLanes},

	{In: "findings", Keys: []string{"up", "k", "<"}, Name: "previous finding", Hint: "select", Group: view.GroupFindings,
		Do: view.On(func(_ *view.Model, f *findings) { f.list.Move(-1) })},
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
	{In: "findings", Keys: []string{"u"}, Name: "sort by file or by unit", Hint: "by unit", Group: view.GroupFindings,
		Do: view.On(func(_ *view.Model, f *findings) { f.regroup() })},
	{In: "findings", Keys: []string{"o"}, Name: "filter: all, errors, warnings, new, gone", Hint: "filter",
		Group: view.GroupFindings, Do: view.On(func(m *view.Model, f *findings) { f.next(m) })},
	{In: "findings", Keys: []string{"/"}, Name: "search for a file, rule or message", Hint: "search",
		Group: view.GroupFindings, Do: view.On(func(m *view.Model, f *findings) { f.find(m) })},
	{In: "findings", Keys: []string{"w"}, Name: "write all results to a file", Group: view.GroupFindings,
		Do: writeResults},
	{In: "findings", Keys: []string{"esc", "F"}, Name: "back to the lanes", Hint: "back", Group: view.GroupFindings,
		Do: (*view.Model).BackToLanes},

	{In: "seek", Keys: []string{"enter"}, Name: "keep", Hint: "keep", Group: view.GroupField, Do: (*view.Model).Close},
	{In: "seek", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *seekField) { f.cancel(m) })},

	{In: "narrow", Keys: []string{"enter"}, Name: "run only these", Hint: "run only these", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *narrowField) { f.submit(m) })},
	{In: "narrow", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: (*view.Model).Close},
}

// panelKeys are those of what opens over the overview.
var panelKeys = []view.Binding{
	{In: "why", Keys: []string{"enter"}, Name: "ask", Hint: "ask", Group: view.GroupField, When: typing,
		Do: view.On(func(m *view.Model, q *question) { q.submit(m) })},
	{In: "why", Keys: []string{"esc", "ctrl+c"}, Name: "leave the field", Hint: "leave the field", Group: view.GroupField,
		When: typing,
		Do:   view.On(func(_ *view.Model, q *question) { q.input.Blur() })},
	{In: "why", Keys: []string{"enter"}, Name: "type a path", Hint: "type a path", Group: view.GroupField, When: notTyping,
		Do: view.On(func(m *view.Model, q *question) { q.enter(m) })},
	{In: "why", Keys: []string{"esc", "y"}, Name: "close", Hint: "close", Group: view.GroupField, When: notTyping,
		Do: (*view.Model).Close},

	{In: "loop", Keys: []string{"enter"}, Name: "ignore these files for this session", Group: view.GroupLoop,
		Do: decide(api.KeepIgnoring)},
	{In: "loop", Keys: []string{"w"}, Name: "write the fix into omnivigil.toml", Group: view.GroupLoop,
		Do: view.On(func(m *view.Model, l *loopPanel) { l.writeCure(m) })},
	{In: "loop", Keys: []string{"u"}, Name: "undo: react to these files again", Group: view.GroupLoop,
		Do: decide(api.ReactAgain)},
	{In: "loop", Keys: []string{"esc", "ctrl+c"}, Name: "close", Hint: "close", Group: view.GroupField, Do: (*view.Model).Close},

	{In: "doubts", Keys: []string{"enter"}, Name: "touch the files in doubt (as if saved)",
		Hint: "touch the files", Group: view.GroupDoubts,
		Do: func(m *view.Model) { m.Ask(api.Touch) }},
	{In: "doubts", Keys: []string{"backspace"}, Name: "dismiss all", Hint: "dismiss", Group: view.GroupDoubts,
		Do: func(m *view.Model) { m.Ask(api.Dismiss) }},
	{In: "doubts", Keys: []string{"esc", "D", "ctrl+c"}, Name: "close", Hint: "close", Group: view.GroupField,
		Do: (*view.Model).Close},

	{In: "search", Keys: []string{"enter"}, Name: "keep", Hint: "keep", Group: view.GroupField, Do: (*view.Model).Close},
	{In: "search", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *lookField) { f.cancel(m) })},
	{In: "search", Keys: []string{"up"}, Name: "previous match", Hint: "previous", Group: view.GroupField,
		Do: func(m *view.Model) { focused(m).Next(m, -1) }},
	{In: "search", Keys: []string{"down"}, Name: "next match", Hint: "next", Group: view.GroupField,
		Do: func(m *view.Model) { focused(m).Next(m, 1) }},

	{In: "filter", Keys: []string{"enter"}, Name: "keep", Hint: "keep", Group: view.GroupField, Do: (*view.Model).Close},
	{In: "filter", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *filterField) { f.cancel(m) })},

	{In: "words", Keys: []string{"enter"}, Name: "run with these arguments", Hint: "run with them", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *wordsField) { f.submit(m) })},
	{In: "words", Keys: []string{"up"}, Name: "previous entry", Hint: "previous", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *wordsField) { f.recall(m, -1) })},
	{In: "words", Keys: []string{"down"}, Name: "next entry", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *wordsField) { f.recall(m, 1) })},
	{In: "words", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: (*view.Model).Close},

	{In: "write", Keys: []string{"enter"}, Name: "write", Hint: "write", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *view.WriteField) { f.Submit(m) })},
	{In: "write", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: (*view.Model).Close},

	{In: "lines", Keys: []string{"up", "k"}, Name: "previous line", Hint: "select", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.Point(-1) })},
	{In: "lines", Keys: []string{"down", "j"}, Name: "next line", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.Point(1) })},
	{In: "lines", Keys: []string{"pgup"}, Name: "page up", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.Point(-p.of.Height) })},
	{In: "lines", Keys: []string{"pgdown"}, Name: "page down", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.Point(p.of.Height) })},
	{In: "lines", Keys: []string{"space"}, Name: "start selecting here", Hint: "from here", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.ToggleSelecting() })},
	{In: "lines", Keys: []string{"c", "enter"}, Name: "copy", Hint: "copy", Group: view.GroupLines,
		Do: view.On(func(m *view.Model, p *picking) { p.copy(m) })},
	{In: "lines", Keys: []string{"w"}, Name: "write to a file", Hint: "write", Group: view.GroupLines,
		Do: view.On(func(m *view.Model, p *picking) { p.write(m) })},
	{In: "lines", Keys: []string{"e"}, Name: "open the line's location in the editor", Hint: "editor",
		Group: view.GroupLines, Do: view.On(func(m *view.Model, p *picking) { p.edit(m) })},
	{In: "lines", Keys: []string{"b"}, Name: "open its address in the browser", Hint: "browser", Group: view.GroupLines,
		Do: view.On(func(m *view.Model, p *picking) { p.follow(m) })},
	{In: "lines", Keys: []string{"'"}, Name: "mark or unmark", Hint: "mark", Group: view.GroupLines,
		Do: view.On(func(m *view.Model, p *picking) { p.mark(m) })},
	{In: "lines", Keys: []string{"#"}, Name: "raw or as columns", Hint: "raw", Group: view.GroupLines,
		Do: func(m *view.Model) { focused(m).ToggleRaw() }},
	{In: "lines", Keys: []string{"esc", "ctrl+c", "q"}, Name: "back", Hint: "back", Group: view.GroupLines,
		Do: (*view.Model).Close},

	{In: "find", Keys: []string{"enter"}, Name: "keep", Hint: "keep", Group: view.GroupField, Do: (*view.Model).Close},
	{In: "find", Keys: []string{"esc", "ctrl+c"}, Name: "show all", Hint: "show all", Group: view.GroupField,
		Do: showAll},
	{In: "find", Keys: []string{"up"}, Name: "previous unit", Hint: "select", Group: view.GroupField,
		Do: func(m *view.Model) { overviewOf(m).lanes.Move(m, -1) }},
	{In: "find", Keys: []string{"down"}, Name: "next unit", Group: view.GroupField,
		Do: func(m *view.Model) { overviewOf(m).lanes.Move(m, 1) }},

	{In: "leave", Keys: []string{"c"}, Name: "close only this screen", Hint: "close the screen", Group: view.GroupLeave,
		Do: closeScreen},
	{In: "leave", Keys: []string{"s"}, Name: "stop the project, in order", Hint: "stop the project", Group: view.GroupLeave,
		Do: endProject},
	{In: "leave", Keys: []string{"esc", "q", "ctrl+c"}, Name: "go back", Hint: "back", Group: view.GroupLeave,
		Do: (*view.Model).Close},

	{In: "help", Keys: []string{"esc"}, Name: "close", Group: view.GroupField, Do: (*view.Model).Close},
	{In: "help", Keys: []string{"down", "j", "pgdown"}, Name: "scroll down", Group: view.GroupField, Do: onHelp(1)},
	{In: "help", Keys: []string{"up", "k", "pgup"}, Name: "scroll up", Group: view.GroupField, Do: onHelp(-1)},
}
