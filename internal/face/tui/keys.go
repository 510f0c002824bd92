package tui

import (
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/output/query"
)

// bindings is the table. It follows one rule: small letters act on the selected unit, capital
// letters change the view, signs and paging are for the stream, arrows move; anything for
// all holds ctrl.
var bindings []binding

func init() { // what the bindings do leads back to the table
	bindings = slices.Concat(unitKeys, viewKeys, resultKeys, moreUnitKeys, terminalKeys, handKeys, projectKeys,
		timeKeys, streamKeys, screenKeys, wordKeys, panelKeys, resultViewKeys, rippleKeys, unitViewKeys, mapKeys,
		chartKeys, fieldKeys)
	for i := range bindings {
		if bindings[i].in == "" {
			bindings[i].in = "overview"
		}
	}
}

var unitKeys = []binding{
	{keys: []string{"up", "k"}, action: "previous-unit", name: "previous unit", hint: "select", group: onUnit,
		when: several, do: func(m *model) { overviewOf(m).lanes.move(m, -1) }},
	{keys: []string{"down", "j"}, action: "next-unit", name: "next unit", group: onUnit,
		do: func(m *model) { overviewOf(m).lanes.move(m, 1) }},
	{keys: []string{"!"}, action: "next-broken", name: "next broken unit", hint: "next broken",
		group: onUnit,
		when:  anyBroken, do: func(m *model) { overviewOf(m).lanes.nextBroken(m) }},
	{keys: []string{"f"}, action: "find-units", name: "find units by name, kind, state or group", group: onUnit,
		do: findUnits},
	{keys: []string{"r"}, action: "restart", name: "restart or rerun it; start it if it is stopped",
		hint: "restart", group: onUnit,
		do: func(m *model) { m.request(api.Restart) }},
	{keys: []string{"u"}, action: "restart-with-setup", name: "restart or rerun it with its setup steps", group: onUnit,
		do: func(m *model) { m.request(api.SetUp) }},
	{keys: []string{"s"}, action: "stop", name: "stop it", hint: "stop", group: onUnit,
		when: func(m *model) bool { u := m.selectedUnit(); return u != nil && u.Wanted },
		do:   func(m *model) { m.request(api.Stop) }},
}

// moreUnitKeys come after those for results, for which there is room on the bottom line first.
var moreUnitKeys = []binding{
	{keys: []string{"p"}, action: "pause", name: "pause its reactions to changes, or resume them", hint: "pause",
		group: onUnit,
		do:    func(m *model) { m.request(pauseOrResume(m)) }},
	{keys: []string{"b"}, action: "open-in-browser", name: "open its address in the browser", group: onUnit,
		when: func(m *model) bool { return len(addresses(m).Addresses) > 0 }, do: browse},
	{keys: []string{"y"}, action: "why", name: "explain its state, and what a save would do", hint: "why",
		group: onUnit, do: askWhy},
	{keys: []string{"l"}, action: "loop", name: "loop: decide what it reacts to", hint: "loop",
		group: onUnit,
		when:  func(m *model) bool { u := m.selectedUnit(); return looping(m) != nil || u != nil && u.Loop != nil },
		do:    showLoop},
	{keys: []string{"enter"}, action: "only-its-output", name: "show only its output, or all",
		hint: "only its output", group: onUnit, when: several,
		do: func(m *model) { focused(m).only(m) }},
}

var projectKeys = []binding{
	{keys: []string{"ctrl+r"}, action: "restart-all", name: "restart and rerun everything", group: onProject,
		do: func(m *model) { m.ask(api.Restart) }},
	{keys: []string{"D"}, action: "doubts", name: "list the doubts about the verdict", hint: "doubts", group: onProject,
		when: func(m *model) bool { return len(m.snap.Doubts) > 0 }, do: showDoubts},
	{keys: []string{"ctrl+p"}, action: "pause-all", name: "pause all reactions, or resume them", group: onProject,
		do: func(m *model) { m.ask(pauseOrResumeAll(m)) }},
	{keys: []string{"q", "ctrl+c"}, action: "quit", name: "quit: stop everything in order; again: at once",
		hint: "quit", group: onProject, do: quit},
}

var timeKeys = []binding{
	{keys: []string{"left"}, action: "time-back", name: "go back in time", hint: "time", group: onTime,
		do: func(m *model) { moveTime(m, -1) }},
	{keys: []string{"right"}, action: "time-forward", name: "go forward in time", group: onTime,
		do: func(m *model) { moveTime(m, 1) }},
	{keys: []string{"["}, action: "previous-save", name: "previous save", group: onTime,
		do: func(m *model) { moveSave(m, -1) }},
	{keys: []string{"]"}, action: "next-save", name: "next save", group: onTime,
		do: func(m *model) { moveSave(m, 1) }},
	{keys: []string{".", "esc", "end", "G"}, action: "now", name: "back to now", hint: "now", group: onTime,
		when: func(m *model) bool { return !atNow(m) }, do: func(m *model) { backToNow(m) }},
	{keys: []string{"+", "="}, action: "zoom-in", name: "zoom in", hint: "zoom", group: onTime,
		do: func(m *model) { zoom(m, -1) }},
	{keys: []string{"-"}, action: "zoom-out", name: "zoom out", group: onTime,
		do: func(m *model) { zoom(m, 1) }},
}

var streamKeys = []binding{
	{keys: []string{"pgup", "ctrl+u"}, action: "scroll-up", name: "scroll up", group: onStream,
		do: func(m *model) { focused(m).pages(-1) }},
	{keys: []string{"pgdown", "ctrl+d", "space"}, action: "scroll-down", name: "scroll down", group: onStream,
		do: func(m *model) { focused(m).pages(1) }},
	{keys: []string{"shift+up"}, action: "line-up", name: "scroll up one line", group: onStream,
		do: func(m *model) { focused(m).scroll(-1) }},
	{keys: []string{"shift+down"}, action: "line-down", name: "scroll down one line", group: onStream,
		do: func(m *model) { focused(m).scroll(1) }},
	{keys: []string{"home", "g"}, action: "first-line", name: "first line", group: onStream,
		do: func(m *model) { focused(m).first() }},
	{keys: []string{"("}, action: "previous-run", name: "previous run", group: onStream,
		do: func(m *model) { focused(m).jump(m, query.Start, -1) }},
	{keys: []string{")"}, action: "next-run", name: "next run", group: onStream,
		do: func(m *model) { focused(m).jump(m, query.Start, 1) }},
	{keys: []string{"{"}, action: "previous-failure", name: "previous failure", group: onStream,
		do: func(m *model) { focused(m).jump(m, query.Failure, -1) }},
	{keys: []string{"}"}, action: "next-failure", name: "next failure", group: onStream,
		do: func(m *model) { focused(m).jump(m, query.Failure, 1) }},
	{keys: []string{"/"}, action: "search", name: "search the output", hint: "search",
		group: onStream, do: searchOutput},
	{keys: []string{"n"}, action: "next-match", name: "next match", hint: "next match", group: onStream,
		when: looking, do: func(m *model) { focused(m).next(m, 1) }},
	{keys: []string{"N"}, action: "previous-match", name: "previous match", group: onStream, when: looking,
		do: func(m *model) { focused(m).next(m, -1) }},
	{keys: []string{"&"}, action: "filter", name: "filter lines by text, unit, run or level",
		hint: "filter", group: onStream, do: filterOutput},
	{keys: []string{"^"}, action: "last-save", name: "show only the last save's output, or all",
		group: onStream, do: func(m *model) { focused(m).lastSave(m) }},
	{keys: []string{"~"}, action: "level", name: "show warnings and errors, errors, or all", group: onStream,
		do: func(m *model) { focused(m).level(m) }},
	{keys: []string{"backspace"}, action: "show-all", name: "show all lines and end the search",
		hint: "show all", group: onStream,
		when: func(m *model) bool { return len(focused(m).filter) > 0 || looking(m) }, do: noFilter},
	{keys: []string{"\""}, action: "select-lines", name: "select lines to copy, mark or open",
		hint: "select lines", group: onStream, do: pick},
	{keys: []string{"'"}, action: "previous-mark", name: "previous marked line", group: onStream,
		do: nextMark},
	{keys: []string{"%"}, action: "write-output", name: "write the output as text, JSON lines or HTML",
		group: onStream, do: saveOutput},
	{keys: []string{"@"}, action: "times", name: "times: of day, since the save, since a line", group: onStream,
		do: func(m *model) { focused(m).times = (focused(m).times + 1) % howManyTimes }},
	{keys: []string{"#"}, action: "raw", name: "JSON and logfmt: raw or as columns", group: onStream,
		do: func(m *model) { focused(m).raw = !focused(m).raw }},
	{keys: []string{"\\"}, action: "wrap", name: "cut long lines, or wrap them", group: onStream,
		do: func(m *model) { focused(m).wrap = !focused(m).wrap }},
	{keys: []string{"*"}, action: "second-stream", name: "toggle a second stream, next to it or below",
		group: onStream,
		do:    func(m *model) { overviewOf(m).split(m) }},
	{keys: []string{"tab"}, action: "other-stream", name: "switch to the other stream", hint: "other stream",
		group: onStream,
		when:  func(m *model) bool { return len(overviewOf(m).streams) > 1 }, do: func(m *model) { overviewOf(m).other() }},
}

// several reports whether there is more than one unit.
func several(m *model) bool { return len(m.snap.Units) > 1 }

// looking reports whether something is looked for.
func looking(m *model) bool { return focused(m).search.matcher != nil }

var screenKeys = []binding{
	{keys: []string{"|"}, action: "lane-height", name: "height of the lanes: half, a quarter, most", group: onScreen,
		do: func(m *model) { overviewOf(m).lanes.share = (overviewOf(m).lanes.share + 1) % len(shares) }},
	{keys: []string{"o"}, action: "sort-lanes", name: "sort lanes by file, need or problem", group: onScreen,
		when: several, do: nextOrder},
	{keys: []string{"z"}, action: "fold", name: "fold or unfold quiet units", group: onScreen,
		when: several,
		do:   func(m *model) { overviewOf(m).lanes.unfolded = !overviewOf(m).lanes.unfolded }},
	{keys: []string{"w"}, action: "write-drawing", name: "write the view as SVG or PDF",
		group: onScreen,
		when:  func(m *model) bool { return drawable(m) != "" }, do: askDrawing},
	{keys: []string{"m"}, action: "mouse", name: "mouse: select text or control the screen", group: onScreen,
		do: toggleMouse},
	{keys: []string{"ctrl+z"}, action: "suspend", name: "suspend this screen (fg resumes it)",
		group: onScreen, do: suspend},
	{keys: []string{"?"}, action: "help", name: "toggle this help", hint: "help", group: onScreen,
		do: toggleHelp},
}

// wordKeys add words to a command. They come last: where there is room, the bottom line has them.
var wordKeys = []binding{
	{keys: []string{"a"}, action: "add-arguments", name: "add arguments to its command for the next runs",
		hint: "add arguments", group: onUnit,
		when: func(m *model) bool { return m.selectedUnit() != nil }, do: addWords},
	{keys: []string{"d"}, action: "remove-arguments", name: "remove the added arguments; run all tests again",
		hint: "run all", group: onUnit,
		when: func(m *model) bool { return hasWords(m) || narrowed(m) }, do: widen},
	{keys: []string{"c"}, action: "run-without-arguments", name: "restart or rerun once without the arguments",
		hint: "once without", group: onUnit,
		when: hasWords, do: func(m *model) { m.request(api.RunWith) }},
}

// resultKeys are about tests and findings, from the overview.
var resultKeys = []binding{
	{keys: []string{"T"}, action: "tests", name: "tests: failing ones first", hint: "tests", group: onView,
		when: anyTests, do: showTests},
	{keys: []string{"F"}, action: "findings", name: "findings: what compilers and linters report", hint: "findings",
		group: onView, when: anyFindings, do: showFindings},
	{keys: []string{">"}, action: "next-location", name: "next location of a failure or finding",
		hint: "next location", group: onResults, when: anyTrouble,
		do: func(m *model) { seekTrouble(m, 1) }},
	{keys: []string{"<"}, action: "previous-location", name: "previous location", group: onResults,
		when: anyTrouble, do: func(m *model) { seekTrouble(m, -1) }},
	{keys: []string{"e"}, action: "edit", name: "open the location in the editor", hint: "editor", group: onResults,
		when: anyTrouble, do: editTrouble},
	{keys: []string{"t"}, action: "narrow", name: "narrow the selected suite to some tests", group: onResults,
		when: hasTests, do: narrowUnit},
	{keys: []string{"x"}, action: "narrow-failing", name: "narrow the selected suite to its failing tests",
		group: onResults,
		when:  func(m *model) bool { u := m.selectedUnit(); return hasTests(m) && u.Report.Failed > 0 },
		do: func(m *model) {
			m.askFor(api.Request{Action: api.Narrow, Units: []string{m.selectedUnit().Name}, Failing: true})
		}},
}

// resultViewKeys are those of the views of tests and findings.
var resultViewKeys = []binding{
	{in: "tests", keys: []string{"up", "k"}, name: "previous test", hint: "select", group: onTest,
		do: on(func(_ *model, t *tests) { t.list.move(-1) })},
	{in: "tests", keys: []string{"down", "j"}, name: "next test", group: onTest,
		do: on(func(_ *model, t *tests) { t.list.move(1) })},
	{in: "tests", keys: []string{"shift+up"}, name: "10 tests up", group: onTest,
		do: on(func(_ *model, t *tests) { t.list.move(-10) })},
	{in: "tests", keys: []string{"shift+down"}, name: "10 tests down", group: onTest,
		do: on(func(_ *model, t *tests) { t.list.move(10) })},
	{in: "tests", keys: []string{"home", "g"}, name: "first test", group: onTest,
		do: on(func(_ *model, t *tests) { t.list.at = 0 })},
	{in: "tests", keys: []string{"end", "G"}, name: "last test", group: onTest,
		do: on(func(_ *model, t *tests) { t.list.move(t.list.total) })},
	{in: "tests", keys: []string{"pgup"}, name: "scroll its output up", group: onTest,
		do: on(func(_ *model, t *tests) { t.scroll -= 8 })},
	{in: "tests", keys: []string{"pgdown"}, name: "scroll its output down", group: onTest,
		do: on(func(_ *model, t *tests) { t.scroll += 8 })},
	{in: "tests", keys: []string{"r", "enter"}, name: "run this test, or the marked ones", hint: "run only it",
		group: onTest, do: on(func(m *model, t *tests) { t.run(m) })},
	{in: "tests", keys: []string{"space"}, name: "mark the line", hint: "mark", group: onTest,
		do: on(func(m *model, t *tests) { t.mark(m) })},
	{in: "tests", keys: []string{"f"}, name: "run the tests of this file", hint: "its file", group: onTest,
		do: on(func(m *model, t *tests) { t.runFile(m) })},
	{in: "tests", keys: []string{"x"}, name: "run only the failing tests", hint: "only failing", group: onTest,
		do: on(func(m *model, t *tests) { t.runFailing(m) })},
	{in: "tests", keys: []string{"d"}, name: "run all tests again", hint: "run all", group: onTest,
		when: narrowed, do: widen},
	{in: "tests", keys: []string{"e"}, name: "open in the editor", hint: "editor", group: onTest,
		do: on(func(m *model, t *tests) { t.edit(m) })},
	{in: "tests", keys: []string{"o"}, name: "filter: failing, new, flaky, slow, skipped",
		hint: "filter", group: onTest, do: on(func(m *model, t *tests) { t.next(m) })},
	{in: "tests", keys: []string{"/"}, name: "search for a name", hint: "search", group: onTest,
		do: on(func(m *model, t *tests) { t.find(m) })},
	{in: "tests", keys: []string{"w"}, name: "write all results to a file", group: onTest, do: writeResults},
	{in: "tests", keys: []string{"esc", "T"}, name: "back to the lanes", hint: "back", group: onTest,
		do: (*model).lanesOnly},

	{in: "findings", keys: []string{"up", "k", "<"}, name: "previous finding", hint: "select", group: onFound,
		do: on(func(_ *model, f *findings) { f.list.move(-1) })},
	{in: "findings", keys: []string{"down", "j", ">"}, name: "next finding", group: onFound,
		do: on(func(_ *model, f *findings) { f.list.move(1) })},
	{in: "findings", keys: []string{"shift+up", "pgup"}, name: "10 findings up", group: onFound,
		do: on(func(_ *model, f *findings) { f.list.move(-10) })},
	{in: "findings", keys: []string{"shift+down", "pgdown"}, name: "10 findings down", group: onFound,
		do: on(func(_ *model, f *findings) { f.list.move(10) })},
	{in: "findings", keys: []string{"home", "g"}, name: "first finding", group: onFound,
		do: on(func(_ *model, f *findings) { f.list.at = 0 })},
	{in: "findings", keys: []string{"end", "G"}, name: "last finding", group: onFound,
		do: on(func(_ *model, f *findings) { f.list.move(f.list.total) })},
	{in: "findings", keys: []string{"e", "enter"}, name: "open in the editor", hint: "editor",
		group: onFound, do: on(func(m *model, f *findings) { f.edit(m) })},
	{in: "findings", keys: []string{"u"}, name: "sort by file or by unit", hint: "by unit", group: onFound,
		do: on(func(_ *model, f *findings) { f.regroup() })},
	{in: "findings", keys: []string{"o"}, name: "filter: all, errors, warnings, new, gone", hint: "filter",
		group: onFound, do: on(func(m *model, f *findings) { f.next(m) })},
	{in: "findings", keys: []string{"/"}, name: "search for a file, rule or message", hint: "search",
		group: onFound, do: on(func(m *model, f *findings) { f.find(m) })},
	{in: "findings", keys: []string{"w"}, name: "write all results to a file", group: onFound,
		do: writeResults},
	{in: "findings", keys: []string{"esc", "F"}, name: "back to the lanes", hint: "back", group: onFound,
		do: (*model).lanesOnly},

	{in: "seek", keys: []string{"enter"}, name: "keep", hint: "keep", group: onField, do: (*model).close},
	{in: "seek", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: on(func(m *model, f *seekField) { f.cancel(m) })},

	{in: "narrow", keys: []string{"enter"}, name: "run only these", hint: "run only these", group: onField,
		do: on(func(m *model, f *narrowField) { f.submit(m) })},
	{in: "narrow", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).close},
}

// panelKeys are those of what opens over the overview.
var panelKeys = []binding{
	{in: "why", keys: []string{"enter"}, name: "ask", hint: "ask", group: onField, when: typing,
		do: on(func(m *model, q *question) { q.submit(m) })},
	{in: "why", keys: []string{"esc", "ctrl+c"}, name: "leave the field", hint: "leave the field", group: onField,
		when: typing,
		do:   on(func(_ *model, q *question) { q.input.Blur() })},
	{in: "why", keys: []string{"enter"}, name: "type a path", hint: "type a path", group: onField, when: notTyping,
		do: on(func(m *model, q *question) { q.enter(m) })},
	{in: "why", keys: []string{"esc", "y"}, name: "close", hint: "close", group: onField, when: notTyping,
		do: (*model).close},

	{in: "loop", keys: []string{"enter"}, name: "ignore these files for this session", group: onLoop,
		do: decide(api.KeepIgnoring)},
	{in: "loop", keys: []string{"w"}, name: "write the fix into omnivigil.toml", group: onLoop,
		do: on(func(m *model, l *loopPanel) { l.writeCure(m) })},
	{in: "loop", keys: []string{"u"}, name: "undo: react to these files again", group: onLoop,
		do: decide(api.ReactAgain)},
	{in: "loop", keys: []string{"esc", "ctrl+c"}, name: "close", hint: "close", group: onField, do: (*model).close},

	{in: "doubts", keys: []string{"enter"}, name: "touch the files in doubt (as if saved)",
		hint: "touch the files", group: onDoubt,
		do: func(m *model) { m.ask(api.Touch) }},
	{in: "doubts", keys: []string{"backspace"}, name: "dismiss all", hint: "dismiss", group: onDoubt,
		do: func(m *model) { m.ask(api.Dismiss) }},
	{in: "doubts", keys: []string{"esc", "D", "ctrl+c"}, name: "close", hint: "close", group: onField,
		do: (*model).close},

	{in: "search", keys: []string{"enter"}, name: "keep", hint: "keep", group: onField, do: (*model).close},
	{in: "search", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: on(func(m *model, f *lookField) { f.cancel(m) })},
	{in: "search", keys: []string{"up"}, name: "previous match", hint: "previous", group: onField,
		do: func(m *model) { focused(m).next(m, -1) }},
	{in: "search", keys: []string{"down"}, name: "next match", hint: "next", group: onField,
		do: func(m *model) { focused(m).next(m, 1) }},

	{in: "filter", keys: []string{"enter"}, name: "keep", hint: "keep", group: onField, do: (*model).close},
	{in: "filter", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: on(func(m *model, f *filterField) { f.cancel(m) })},

	{in: "words", keys: []string{"enter"}, name: "run with these arguments", hint: "run with them", group: onField,
		do: on(func(m *model, f *wordsField) { f.submit(m) })},
	{in: "words", keys: []string{"up"}, name: "previous entry", hint: "previous", group: onField,
		do: on(func(m *model, f *wordsField) { f.recall(m, -1) })},
	{in: "words", keys: []string{"down"}, name: "next entry", group: onField,
		do: on(func(m *model, f *wordsField) { f.recall(m, 1) })},
	{in: "words", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).close},

	{in: "write", keys: []string{"enter"}, name: "write", hint: "write", group: onField,
		do: on(func(m *model, f *writeField) { f.submit(m) })},
	{in: "write", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).close},

	{in: "lines", keys: []string{"up", "k"}, name: "previous line", hint: "select", group: onPicked,
		do: on(func(_ *model, p *picking) { p.point(-1) })},
	{in: "lines", keys: []string{"down", "j"}, name: "next line", group: onPicked,
		do: on(func(_ *model, p *picking) { p.point(1) })},
	{in: "lines", keys: []string{"pgup"}, name: "page up", group: onPicked,
		do: on(func(_ *model, p *picking) { p.point(-p.of.height) })},
	{in: "lines", keys: []string{"pgdown"}, name: "page down", group: onPicked,
		do: on(func(_ *model, p *picking) { p.point(p.of.height) })},
	{in: "lines", keys: []string{"space"}, name: "start selecting here", hint: "from here", group: onPicked,
		do: on(func(m *model, p *picking) { p.choose(m) })},
	{in: "lines", keys: []string{"c", "enter"}, name: "copy", hint: "copy", group: onPicked,
		do: on(func(m *model, p *picking) { p.copy(m) })},
	{in: "lines", keys: []string{"w"}, name: "write to a file", hint: "write", group: onPicked,
		do: on(func(m *model, p *picking) { p.write(m) })},
	{in: "lines", keys: []string{"e"}, name: "open the line's location in the editor", hint: "editor",
		group: onPicked, do: on(func(m *model, p *picking) { p.edit(m) })},
	{in: "lines", keys: []string{"b"}, name: "open its address in the browser", hint: "browser", group: onPicked,
		do: on(func(m *model, p *picking) { p.follow(m) })},
	{in: "lines", keys: []string{"'"}, name: "mark or unmark", hint: "mark", group: onPicked,
		do: on(func(m *model, p *picking) { p.mark(m) })},
	{in: "lines", keys: []string{"#"}, name: "raw or as columns", hint: "raw", group: onPicked,
		do: func(m *model) { focused(m).raw = !focused(m).raw }},
	{in: "lines", keys: []string{"esc", "ctrl+c", "q"}, name: "back", hint: "back", group: onPicked,
		do: (*model).close},

	{in: "find", keys: []string{"enter"}, name: "keep", hint: "keep", group: onField, do: (*model).close},
	{in: "find", keys: []string{"esc", "ctrl+c"}, name: "show all", hint: "show all", group: onField,
		do: showAll},
	{in: "find", keys: []string{"up"}, name: "previous unit", hint: "select", group: onField,
		do: func(m *model) { overviewOf(m).lanes.move(m, -1) }},
	{in: "find", keys: []string{"down"}, name: "next unit", group: onField,
		do: func(m *model) { overviewOf(m).lanes.move(m, 1) }},

	{in: "leave", keys: []string{"c"}, name: "close only this screen", hint: "close the screen", group: onLeave,
		do: closeScreen},
	{in: "leave", keys: []string{"s"}, name: "stop the project, in order", hint: "stop the project", group: onLeave,
		do: endProject},
	{in: "leave", keys: []string{"esc", "q", "ctrl+c"}, name: "go back", hint: "back", group: onLeave,
		do: (*model).close},

	{in: "help", keys: []string{"esc"}, name: "close", group: onField, do: (*model).close},
	{in: "help", keys: []string{"down", "j", "pgdown"}, name: "scroll down", group: onField, do: onHelp(1)},
	{in: "help", keys: []string{"up", "k", "pgup"}, name: "scroll up", group: onField, do: onHelp(-1)},
}
