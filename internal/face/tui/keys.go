package tui

import (
	"slices"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/output/query"
)

// binding is one key's meaning. The table of bindings is the only place where
// keys stand: input, help, hints and tests all come from it.
type binding struct {
	in     string   // the name of the view that it is for; empty: the overview, and what lies on it
	keys   []string // as Bubble Tea names them; the first is the one shown
	action string   // under which a person's own file gives it other keys; empty: it keeps its own
	name   string   // what it does, as one would look for it
	hint   string   // for the bottom line; empty: not shown there
	group  string
	when   func(*model) bool // nil: always
	first  func(*model) bool // when its hint is shown, and then before others; nil: always, after those
	do     func(*model)
}

// shown is how a key is written on the screen.
func (b binding) shown() string {
	nice := map[string]string{
		"up": "↑", "down": "↓", "left": "←", "right": "→", "enter": "enter", "space": "space",
		"pgup": "page up", "pgdown": "page down", "esc": "esc",
	}
	parts := make([]string, len(b.keys))
	for i, k := range b.keys {
		parts[i] = k
		if n, ok := nice[k]; ok {
			parts[i] = n
		}
	}
	return strings.Join(parts, " ")
}

// Groups of bindings, in the order of the help.
const (
	onUnit    = "the selected unit"
	onProject = "the project"
	onTime    = "time"
	onStream  = "the stream"
	onResults = "tests and findings"
	onView    = "views"
	onScreen  = "the screen"
)

var groups = []string{onUnit, onView, onProject, onTime, onStream, onResults, onScreen}

// Groups of bindings that single views show themselves.
const (
	onLoop   = "a loop"
	onDoubt  = "doubts"
	onField  = "a field"
	onLeave  = "leaving"
	onPicked = "chosen lines"
	onHand   = "a terminal"
	onTest   = "tests"
	onFound  = "findings"
)

// bindings is the table. It follows one rule: small letters act on the selected unit, capital
// letters change the view, signs and paging are for the stream, arrows move; anything for
// all holds ctrl.
var bindings []binding

func init() { // what the bindings do leads back to the table
	bindings = slices.Concat(unitKeys, viewKeys, resultKeys, moreUnitKeys, terminalKeys, handKeys, projectKeys, timeKeys, streamKeys, screenKeys, wordKeys, panelKeys, resultViewKeys, rippleKeys, unitViewKeys, mapKeys, chartKeys, fieldKeys)
	for i := range bindings {
		if bindings[i].in == "" {
			bindings[i].in = "overview"
		}
	}
}

var unitKeys = []binding{
	{keys: []string{"up", "k"}, action: "unit-above", name: "select the unit above", hint: "select", group: onUnit,
		when: several, do: func(m *model) { m.overview.lanes.move(m, -1) }},
	{keys: []string{"down", "j"}, action: "unit-below", name: "select the unit below", group: onUnit,
		do: func(m *model) { m.overview.lanes.move(m, 1) }},
	{keys: []string{"!"}, action: "next-broken", name: "select the next broken unit", hint: "next broken",
		group: onUnit,
		when:  (*model).anyBroken, do: func(m *model) { m.overview.lanes.nextBroken(m) }},
	{keys: []string{"f"}, action: "find-units", name: "find units by name, kind, state or group", group: onUnit,
		do: (*model).findUnits},
	{keys: []string{"r"}, action: "restart", name: "restart or rerun it; start it if it is stopped",
		hint: "restart", group: onUnit,
		do: func(m *model) { m.request(api.Restart) }},
	{keys: []string{"u"}, action: "restart-with-setup", name: "restart or rerun it with its setup steps", group: onUnit,
		do: func(m *model) { m.request(api.SetUp) }},
	{keys: []string{"s"}, action: "stop", name: "stop it", hint: "stop", group: onUnit,
		when: func(m *model) bool { u := m.chosen(); return u != nil && u.Wanted },
		do:   func(m *model) { m.request(api.Stop) }},
}

// moreUnitKeys come after those for results, for which there is room on the bottom line first.
var moreUnitKeys = []binding{
	{keys: []string{"p"}, action: "pause", name: "pause its reactions to changes, or resume them", hint: "pause",
		group: onUnit,
		do:    func(m *model) { m.request(m.pauseOrResume()) }},
	{keys: []string{"b"}, action: "browse", name: "open its address in the browser", group: onUnit,
		when: func(m *model) bool { return len(m.addresses().Addresses) > 0 }, do: (*model).browse},
	{keys: []string{"y"}, action: "why", name: "say why it is so, and what a save would set off", hint: "why",
		group: onUnit, do: (*model).askWhy},
	{keys: []string{"l"}, action: "loop", name: "decide about a loop: what it writes and runs for", hint: "loop",
		group: onUnit,
		when:  func(m *model) bool { u := m.chosen(); return m.looping() != nil || u != nil && u.Loop != nil }, do: (*model).showLoop},
	{keys: []string{"enter"}, action: "only-output", name: "show only its output, or all again",
		hint: "only its output", group: onUnit, when: several,
		do: func(m *model) { m.stream().only(m) }},
}

var projectKeys = []binding{
	{keys: []string{"ctrl+r"}, action: "restart-all", name: "restart and rerun everything", group: onProject,
		do: func(m *model) { m.ask(api.Restart) }},
	{keys: []string{"D"}, action: "doubts", name: "list the doubts about the verdict", hint: "doubts", group: onProject,
		when: func(m *model) bool { return len(m.snap.Doubts) > 0 }, do: (*model).showDoubts},
	{keys: []string{"ctrl+p"}, action: "pause-all", name: "pause all reactions, or resume them", group: onProject,
		do: func(m *model) { m.ask(m.pauseOrResumeAll()) }},
	{keys: []string{"q", "ctrl+c"}, action: "quit", name: "quit: stop everything in order; again: at once",
		hint: "quit", group: onProject, do: (*model).quit},
}

var timeKeys = []binding{
	{keys: []string{"left"}, action: "time-back", name: "go back in time", hint: "time", group: onTime,
		do: func(m *model) { m.moveTime(-1) }},
	{keys: []string{"right"}, action: "time-forward", name: "go forward in time", group: onTime,
		do: func(m *model) { m.moveTime(1) }},
	{keys: []string{"["}, action: "save-before", name: "go to the save before", group: onTime,
		do: func(m *model) { m.moveSave(-1) }},
	{keys: []string{"]"}, action: "save-after", name: "go to the save after", group: onTime,
		do: func(m *model) { m.moveSave(1) }},
	{keys: []string{".", "esc", "end", "G"}, action: "now", name: "back to now", hint: "now", group: onTime,
		when: func(m *model) bool { return !m.atNow() }, do: func(m *model) { m.backToNow() }},
	{keys: []string{"+", "="}, action: "zoom-in", name: "show less time, larger", hint: "zoom", group: onTime,
		do: func(m *model) { m.zoom(-1) }},
	{keys: []string{"-"}, action: "zoom-out", name: "show more time, smaller", group: onTime,
		do: func(m *model) { m.zoom(1) }},
}

var streamKeys = []binding{
	{keys: []string{"pgup", "ctrl+u"}, action: "scroll-back", name: "scroll up", group: onStream,
		do: func(m *model) { m.stream().pages(-1) }},
	{keys: []string{"pgdown", "ctrl+d", "space"}, action: "scroll-on", name: "scroll down", group: onStream,
		do: func(m *model) { m.stream().pages(1) }},
	{keys: []string{"shift+up"}, action: "line-back", name: "scroll up by a line", group: onStream,
		do: func(m *model) { m.stream().scroll(-1) }},
	{keys: []string{"shift+down"}, action: "line-on", name: "scroll down by a line", group: onStream,
		do: func(m *model) { m.stream().scroll(1) }},
	{keys: []string{"home", "g"}, action: "first-line", name: "to the first line", group: onStream,
		do: func(m *model) { m.stream().first() }},
	{keys: []string{"("}, action: "run-before", name: "previous run", group: onStream,
		do: func(m *model) { m.stream().jump(m, query.Start, -1) }},
	{keys: []string{")"}, action: "run-after", name: "next run", group: onStream,
		do: func(m *model) { m.stream().jump(m, query.Start, 1) }},
	{keys: []string{"{"}, action: "failure-before", name: "to the failure before", group: onStream,
		do: func(m *model) { m.stream().jump(m, query.Failure, -1) }},
	{keys: []string{"}"}, action: "failure-after", name: "to the failure after", group: onStream,
		do: func(m *model) { m.stream().jump(m, query.Failure, 1) }},
	{keys: []string{"/"}, action: "look-for", name: "search the output", hint: "look for",
		group: onStream, do: (*model).searchOutput},
	{keys: []string{"n"}, action: "match-after", name: "to the match after", hint: "next match", group: onStream,
		when: looking, do: func(m *model) { m.stream().next(m, 1) }},
	{keys: []string{"N"}, action: "match-before", name: "to the match before", group: onStream, when: looking,
		do: func(m *model) { m.stream().next(m, -1) }},
	{keys: []string{"&"}, action: "only-lines", name: "show only some lines, by text, unit, run, level",
		hint: "only lines with", group: onStream, do: (*model).filterOutput},
	{keys: []string{"^"}, action: "last-save", name: "show only what the last save set off, or all again",
		group: onStream, do: func(m *model) { m.stream().lastSave(m) }},
	{keys: []string{"~"}, action: "level", name: "only warnings and errors, only errors, or all", group: onStream,
		do: func(m *model) { m.stream().level(m) }},
	{keys: []string{"backspace"}, action: "show-all", name: "show all lines again, and end the search",
		hint: "show all", group: onStream,
		when: func(m *model) bool { return len(m.stream().filter) > 0 || looking(m) }, do: (*model).noFilter},
	{keys: []string{"\""}, action: "choose-lines", name: "select lines: to copy, mark or open what they name",
		hint: "choose lines", group: onStream, do: (*model).pick},
	{keys: []string{"'"}, action: "mark-before", name: "to the marked line before", group: onStream,
		do: (*model).nextMark},
	{keys: []string{"%"}, action: "write-output", name: "write what is shown as text, JSON lines or HTML",
		group: onStream, do: (*model).saveOutput},
	{keys: []string{"@"}, action: "times", name: "times: of day, since the save, since a line", group: onStream,
		do: func(m *model) { m.stream().times = (m.stream().times + 1) % howManyTimes }},
	{keys: []string{"#"}, action: "raw", name: "JSON and logfmt: raw or as columns", group: onStream,
		do: func(m *model) { m.stream().raw = !m.stream().raw }},
	{keys: []string{"\\"}, action: "wrap", name: "cut long lines, or wrap them", group: onStream,
		do: func(m *model) { m.stream().wrap = !m.stream().wrap }},
	{keys: []string{"*"}, action: "second-stream", name: "a second stream, beside or below; or one again",
		group: onStream,
		do:    func(m *model) { m.overview.split(m) }},
	{keys: []string{"tab"}, action: "other-stream", name: "to the other stream", hint: "other stream", group: onStream,
		when: func(m *model) bool { return len(m.overview.streams) > 1 }, do: func(m *model) { m.overview.other() }},
}

// several reports whether there is more than one unit.
func several(m *model) bool { return len(m.snap.Units) > 1 }

// looking reports whether something is looked for.
func looking(m *model) bool { return m.stream().search.matcher != nil }

var screenKeys = []binding{
	{keys: []string{"|"}, action: "share", name: "give lanes half, a quarter or most of the screen", group: onScreen,
		do: func(m *model) { m.overview.lanes.share = (m.overview.lanes.share + 1) % len(shares) }},
	{keys: []string{"o"}, action: "order", name: "order the lanes by file, need or trouble", group: onScreen,
		when: several, do: (*model).nextOrder},
	{keys: []string{"z"}, action: "fold", name: "fold quiet units into one row, or unfold them", group: onScreen,
		when: several,
		do:   func(m *model) { m.overview.lanes.unfolded = !m.overview.lanes.unfolded }},
	{keys: []string{"w"}, action: "write-drawing", name: "write what is shown as a drawing, SVG or PDF",
		group: onScreen,
		when:  func(m *model) bool { return m.drawable() != "" }, do: (*model).askDrawing},
	{keys: []string{"m"}, action: "mouse", name: "mouse: select text or control the screen", group: onScreen,
		do: (*model).toggleMouse},
	{keys: []string{"ctrl+z"}, action: "suspend", name: "suspend this screen; the shell's fg brings it back",
		group: onScreen, do: (*model).suspend},
	{keys: []string{"?"}, action: "help", name: "show or close this help", hint: "help", group: onScreen,
		do: (*model).toggleHelp},
}

// wordKeys add words to a command. They come last: where there is room, the bottom line has them.
var wordKeys = []binding{
	{keys: []string{"a"}, action: "add-words", name: "add arguments to its command for the next runs",
		hint: "add words", group: onUnit,
		when: func(m *model) bool { return m.chosen() != nil }, do: (*model).addWords},
	{keys: []string{"d"}, action: "no-words", name: "remove the added arguments; run all tests again",
		hint: "all again", group: onUnit,
		when: func(m *model) bool { return m.hasWords() || m.narrowed() }, do: (*model).widen},
	{keys: []string{"c"}, action: "once-without", name: "restart or rerun it once without them",
		hint: "once without", group: onUnit,
		when: (*model).hasWords, do: func(m *model) { m.request(api.RunWith) }},
}

// resultKeys are about tests and findings, from the overview.
var resultKeys = []binding{
	{keys: []string{"T"}, action: "tests", name: "the tests: failing first, with why", hint: "tests", group: onView,
		when: (*model).anyTests, do: (*model).showTests},
	{keys: []string{"F"}, action: "findings", name: "the findings of compilers and linters", hint: "findings",
		group: onView, when: (*model).anyFindings, do: (*model).showFindings},
	{keys: []string{">"}, action: "trouble-after", name: "to the next place of a failure or finding",
		hint: "next place", group: onResults, when: (*model).anyTrouble,
		do: func(m *model) { m.seekTrouble(1) }},
	{keys: []string{"<"}, action: "trouble-before", name: "to the place before", group: onResults,
		when: (*model).anyTrouble, do: func(m *model) { m.seekTrouble(-1) }},
	{keys: []string{"e"}, action: "edit", name: "open that place in the editor", hint: "editor", group: onResults,
		when: (*model).anyTrouble, do: (*model).editTrouble},
	{keys: []string{"t"}, action: "narrow", name: "run only some tests of the selected suite", group: onResults,
		when: (*model).hasTests, do: (*model).narrowUnit},
	{keys: []string{"x"}, action: "narrow-failing", name: "run only the failing tests of the selected suite",
		group: onResults,
		when:  func(m *model) bool { u := m.chosen(); return m.hasTests() && u.Report.Failed > 0 },
		do: func(m *model) {
			m.askFor(api.Request{Action: api.Narrow, Units: []string{m.chosen().Name}, Failing: true})
		}},
}

// resultViewKeys are those of the views of tests and findings.
var resultViewKeys = []binding{
	{in: "tests", keys: []string{"up", "k"}, name: "the test above", hint: "choose", group: onTest,
		do: onTests(func(_ *model, t *tests) { t.list.move(-1) })},
	{in: "tests", keys: []string{"down", "j"}, name: "the test below", group: onTest,
		do: onTests(func(_ *model, t *tests) { t.list.move(1) })},
	{in: "tests", keys: []string{"shift+up"}, name: "ten tests up", group: onTest,
		do: onTests(func(_ *model, t *tests) { t.list.move(-10) })},
	{in: "tests", keys: []string{"shift+down"}, name: "ten tests down", group: onTest,
		do: onTests(func(_ *model, t *tests) { t.list.move(10) })},
	{in: "tests", keys: []string{"home", "g"}, name: "the first test", group: onTest,
		do: onTests(func(_ *model, t *tests) { t.list.at = 0 })},
	{in: "tests", keys: []string{"end", "G"}, name: "the last test", group: onTest,
		do: onTests(func(_ *model, t *tests) { t.list.move(t.list.total) })},
	{in: "tests", keys: []string{"pgup"}, name: "what it has written: back", group: onTest,
		do: onTests(func(_ *model, t *tests) { t.scroll -= 8 })},
	{in: "tests", keys: []string{"pgdown"}, name: "what it has written: on", group: onTest,
		do: onTests(func(_ *model, t *tests) { t.scroll += 8 })},
	{in: "tests", keys: []string{"r", "enter"}, name: "run only it, or the marked ones", hint: "run only it",
		group: onTest, do: onTests(func(m *model, t *tests) { t.run(m) })},
	{in: "tests", keys: []string{"space"}, name: "mark it", hint: "mark", group: onTest,
		do: onTests(func(m *model, t *tests) { t.mark(m) })},
	{in: "tests", keys: []string{"f"}, name: "run only the tests of its file", hint: "its file's", group: onTest,
		do: onTests(func(m *model, t *tests) { t.runFile(m) })},
	{in: "tests", keys: []string{"x"}, name: "run only the failing ones", hint: "only failing", group: onTest,
		do: onTests(func(m *model, t *tests) { t.runFailing(m) })},
	{in: "tests", keys: []string{"d"}, name: "run all tests again", hint: "all again", group: onTest,
		when: (*model).narrowed, do: (*model).widen},
	{in: "tests", keys: []string{"e"}, name: "open its place in the editor", hint: "editor", group: onTest,
		do: onTests(func(m *model, t *tests) { t.edit(m) })},
	{in: "tests", keys: []string{"o"}, name: "list by result: failing, new, flaky, slow, skipped",
		hint: "list others", group: onTest, do: onTests(func(m *model, t *tests) { t.next(m) })},
	{in: "tests", keys: []string{"/"}, name: "look for a name", hint: "look for", group: onTest,
		do: (*model).seekTests},
	{in: "tests", keys: []string{"w"}, name: "write all results to a file", group: onTest, do: (*model).writeResults},
	{in: "tests", keys: []string{"esc", "T"}, name: "back to the lanes", hint: "back", group: onTest,
		do: (*model).lanesOnly},

	{in: "findings", keys: []string{"up", "k", "<"}, name: "the finding above", hint: "choose", group: onFound,
		do: onFindings(func(_ *model, f *findings) { f.list.move(-1) })},
	{in: "findings", keys: []string{"down", "j", ">"}, name: "the finding below", group: onFound,
		do: onFindings(func(_ *model, f *findings) { f.list.move(1) })},
	{in: "findings", keys: []string{"shift+up", "pgup"}, name: "ten findings up", group: onFound,
		do: onFindings(func(_ *model, f *findings) { f.list.move(-10) })},
	{in: "findings", keys: []string{"shift+down", "pgdown"}, name: "ten findings down", group: onFound,
		do: onFindings(func(_ *model, f *findings) { f.list.move(10) })},
	{in: "findings", keys: []string{"home", "g"}, name: "the first finding", group: onFound,
		do: onFindings(func(_ *model, f *findings) { f.list.at = 0 })},
	{in: "findings", keys: []string{"end", "G"}, name: "the last finding", group: onFound,
		do: onFindings(func(_ *model, f *findings) { f.list.move(f.list.total) })},
	{in: "findings", keys: []string{"e", "enter"}, name: "open its place in the editor", hint: "editor",
		group: onFound, do: onFindings(func(m *model, f *findings) { f.edit(m) })},
	{in: "findings", keys: []string{"u"}, name: "list by file, or by unit", hint: "by unit", group: onFound,
		do: onFindings(func(_ *model, f *findings) { f.regroup() })},
	{in: "findings", keys: []string{"o"}, name: "list all, errors, warnings, new, gone", hint: "list others",
		group: onFound, do: onFindings(func(m *model, f *findings) { f.next(m) })},
	{in: "findings", keys: []string{"/"}, name: "look for a file, rule or message", hint: "look for",
		group: onFound, do: (*model).seekFindings},
	{in: "findings", keys: []string{"w"}, name: "write all results to a file", group: onFound,
		do: (*model).writeResults},
	{in: "findings", keys: []string{"esc", "F"}, name: "back to the lanes", hint: "back", group: onFound,
		do: (*model).lanesOnly},

	{in: "seek", keys: []string{"enter"}, name: "keep", hint: "keep", group: onField, do: (*model).close},
	{in: "seek", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: func(m *model) {
			if f, ok := m.top().(*seekField); ok {
				f.giveUp(m)
			}
		}},

	{in: "write results", keys: []string{"enter"}, name: "write", hint: "write", group: onField,
		do: (*model).saveResults},
	{in: "write results", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).close},

	{in: "narrow", keys: []string{"enter"}, name: "run only these", hint: "run only these", group: onField,
		do: onNarrow(func(m *model, f *narrowField) { f.submit(m) })},
	{in: "narrow", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).close},
}

// panelKeys are those of what opens over the overview.
var panelKeys = []binding{
	{in: "why", keys: []string{"enter"}, name: "ask", hint: "ask", group: onField, when: typing,
		do: onQuestion(func(m *model, q *question) { q.submit(m) })},
	{in: "why", keys: []string{"esc", "ctrl+c"}, name: "leave the field", hint: "leave the field", group: onField,
		when: typing,
		do:   onQuestion(func(_ *model, q *question) { q.input.Blur() })},
	{in: "why", keys: []string{"enter"}, name: "type a path", hint: "type a path", group: onField, when: notTyping,
		do: onQuestion(func(m *model, q *question) { q.enter(m) })},
	{in: "why", keys: []string{"esc", "y"}, name: "close", hint: "close", group: onField, when: notTyping,
		do: (*model).close},

	{in: "loop", keys: []string{"enter"}, name: "ignore them for this session", group: onLoop,
		do: decide(api.KeepIgnoring)},
	{in: "loop", keys: []string{"w"}, name: "write the line into omnivigil.toml", group: onLoop,
		do: (*model).writeCure},
	{in: "loop", keys: []string{"u"}, name: "undo: let it react to them again", group: onLoop,
		do: decide(api.ReactAgain)},
	{in: "loop", keys: []string{"esc", "ctrl+c"}, name: "close", hint: "close", group: onField, do: (*model).close},

	{in: "doubts", keys: []string{"enter"}, name: "touch the files in doubt: they count as saved",
		hint: "touch the files", group: onDoubt,
		do: func(m *model) { m.ask(api.Touch) }},
	{in: "doubts", keys: []string{"backspace"}, name: "dismiss all of them", hint: "dismiss", group: onDoubt,
		do: func(m *model) { m.ask(api.Dismiss) }},
	{in: "doubts", keys: []string{"esc", "D", "ctrl+c"}, name: "close", hint: "close", group: onField,
		do: (*model).close},

	{in: "look for", keys: []string{"enter"}, name: "keep", hint: "keep", group: onField, do: (*model).close},
	{in: "look for", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).giveUpSearch},
	{in: "look for", keys: []string{"up"}, name: "to the match before", hint: "before", group: onField,
		do: func(m *model) { m.stream().next(m, -1) }},
	{in: "look for", keys: []string{"down"}, name: "to the match after", hint: "after", group: onField,
		do: func(m *model) { m.stream().next(m, 1) }},

	{in: "filter", keys: []string{"enter"}, name: "keep", hint: "keep", group: onField, do: (*model).close},
	{in: "filter", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).giveUpFilter},

	{in: "words", keys: []string{"enter"}, name: "run with them", hint: "run with them", group: onField,
		do: onWords(func(m *model, f *wordsField) { f.submit(m) })},
	{in: "words", keys: []string{"up"}, name: "what was typed before", hint: "before", group: onField,
		do: onWords(func(m *model, f *wordsField) { f.recall(m, -1) })},
	{in: "words", keys: []string{"down"}, name: "what was typed after", group: onField,
		do: onWords(func(m *model, f *wordsField) { f.recall(m, 1) })},
	{in: "words", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).close},

	{in: "write", keys: []string{"enter"}, name: "write", hint: "write", group: onField, do: (*model).save},
	{in: "write", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).close},

	{in: "lines", keys: []string{"up", "k"}, name: "the line above", hint: "choose", group: onPicked,
		do: onLines(func(m *model, p *picking) { p.point(m, -1) })},
	{in: "lines", keys: []string{"down", "j"}, name: "the line below", group: onPicked,
		do: onLines(func(m *model, p *picking) { p.point(m, 1) })},
	{in: "lines", keys: []string{"pgup"}, name: "a page up", group: onPicked,
		do: onLines(func(m *model, p *picking) { p.point(m, -m.stream().height) })},
	{in: "lines", keys: []string{"pgdown"}, name: "a page down", group: onPicked,
		do: onLines(func(m *model, p *picking) { p.point(m, m.stream().height) })},
	{in: "lines", keys: []string{"space"}, name: "choose from here on", hint: "from here", group: onPicked,
		do: onLines(func(m *model, p *picking) { p.choose(m) })},
	{in: "lines", keys: []string{"c", "enter"}, name: "copy", hint: "copy", group: onPicked,
		do: onLines(func(m *model, p *picking) { p.copy(m) })},
	{in: "lines", keys: []string{"w"}, name: "write to a file", hint: "write", group: onPicked,
		do: onLines(func(m *model, p *picking) { p.write(m) })},
	{in: "lines", keys: []string{"e"}, name: "open the place that it names in the editor", hint: "editor",
		group: onPicked, do: onLines(func(m *model, p *picking) { p.edit(m) })},
	{in: "lines", keys: []string{"b"}, name: "open its address in the browser", hint: "browser", group: onPicked,
		do: onLines(func(m *model, p *picking) { p.follow(m) })},
	{in: "lines", keys: []string{"'"}, name: "mark it, or take the mark away", hint: "mark", group: onPicked,
		do: onLines(func(m *model, p *picking) { p.mark(m) })},
	{in: "lines", keys: []string{"#"}, name: "as it is, or as columns", hint: "raw", group: onPicked,
		do: func(m *model) { m.stream().raw = !m.stream().raw }},
	{in: "lines", keys: []string{"esc", "ctrl+c", "q"}, name: "back", hint: "back", group: onPicked,
		do: (*model).close},

	{in: "find", keys: []string{"enter"}, name: "keep", hint: "keep", group: onField, do: (*model).close},
	{in: "find", keys: []string{"esc", "ctrl+c"}, name: "show all", hint: "show all", group: onField,
		do: (*model).showAll},
	{in: "find", keys: []string{"up"}, name: "select the unit above", hint: "select", group: onField,
		do: func(m *model) { m.overview.lanes.move(m, -1) }},
	{in: "find", keys: []string{"down"}, name: "select the unit below", group: onField,
		do: func(m *model) { m.overview.lanes.move(m, 1) }},

	{in: "leave", keys: []string{"c"}, name: "close only this screen", hint: "close the screen", group: onLeave,
		do: (*model).closeScreen},
	{in: "leave", keys: []string{"s"}, name: "stop the project, in order", hint: "stop the project", group: onLeave,
		do: (*model).endProject},
	{in: "leave", keys: []string{"esc", "q", "ctrl+c"}, name: "go back", hint: "go back", group: onLeave,
		do: (*model).close},

	{in: "help", keys: []string{"esc"}, name: "close", group: onField, do: (*model).close},
	{in: "help", keys: []string{"down", "j", "pgdown"}, name: "read on", group: onField, do: onHelp(1)},
	{in: "help", keys: []string{"up", "k", "pgup"}, name: "read back", group: onField, do: onHelp(-1)},
}

// bindingsOf returns the bindings of the view with that name.
func (m *model) bindingsOf(view string) []*binding {
	var of []*binding
	for i := range m.table {
		if m.table[i].in == view {
			of = append(of, &m.table[i])
		}
	}
	return of
}

// lookUp returns the binding of a key in a view that has a meaning now, or nil.
func lookUp(m *model, view, key string) *binding {
	for _, b := range m.bindingsOf(view) {
		if slices.Contains(b.keys, key) && (b.when == nil || b.when(m)) {
			return b
		}
	}
	return nil
}
