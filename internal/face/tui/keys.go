package tui

import (
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/arguments"
	"omnivigil/internal/face/tui/charts"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/mapview"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/panels"
	"omnivigil/internal/face/tui/results"
	"omnivigil/internal/face/tui/ripples"
	"omnivigil/internal/face/tui/typing"
	"omnivigil/internal/face/tui/unitview"
	"omnivigil/internal/face/tui/view"
)

// bindings are the keys of all views. Lowercase letters act on the selected unit, uppercase letters change the view,
// punctuation and paging keys are for the stream, arrow keys move, and ctrl acts on the whole project.
var bindings []view.Binding

func init() { // what the bindings do refers to them
	bindings = slices.Concat(
		overview.SelectKeys, unitKeys, viewKeys, results.Keys, moreUnitKeys, overview.OnlyKeys, typing.Keys,
		projectKeys, overview.TimeKeys, overview.StreamKeys, overview.LaneKeys, screenKeys, arguments.Keys,
		overview.Bindings, panels.WhyKeys, panels.LoopKeys, panels.DoubtKeys, panels.ObservedKeys,
		panels.ProjectKeys, leaveKeys, helpKeys,
		commandLineKeys,
		arguments.Bindings, results.Bindings, ripples.Bindings, unitview.Bindings, mapview.Bindings, charts.Bindings,
		typing.Bindings, view.FieldBindings,
	)
	for i := range bindings {
		if bindings[i].In == "" {
			bindings[i].In = "overview"
		}
	}
}

// unitKeys act on the selected unit.
var unitKeys = []view.Binding{
	{Keys: []string{"r"}, Action: "restart", Name: "restart or rerun it; start it if it is stopped",
		Hint: "restart", Group: view.GroupUnit,
		Do: func(m *view.Model) { m.AskUnit(api.Restart) }},
	{Keys: []string{"u"}, Action: "restart-with-setup", Name: "restart or rerun it with its setup steps",
		Group: view.GroupUnit, Do: func(m *view.Model) { m.AskUnit(api.SetUp) }},
	{Keys: []string{"s"}, Action: "stop", Name: "stop it", Hint: "stop", Group: view.GroupUnit,
		When:   func(m *view.Model) bool { u := m.SelectedUnit(); return u != nil && u.Wanted },
		Unless: "it is stopped", Do: func(m *view.Model) { m.AskUnit(api.Stop) }},
}

// moreUnitKeys come after those for results, which matter more on the bottom line.
var moreUnitKeys = []view.Binding{
	{Keys: []string{"p"}, Action: "pause", Name: "pause its reactions to changes, or resume them", Hint: "pause",
		Group: view.GroupUnit,
		Do:    func(m *view.Model) { m.AskUnit(pauseOrResume(m)) }},
	{Keys: []string{"b"}, Action: "open-in-browser", Name: "open its address in the browser", Group: view.GroupUnit,
		When: func(m *view.Model) bool { return len(m.Addresses()) > 0 }, Unless: "no address of it is known",
		Do: (*view.Model).Browse},
	{Keys: []string{"y"}, Action: "why", Name: "explain its state: all about a failure", Hint: "why",
		Group: view.GroupUnit, Do: panels.ShowWhy},
	{Keys: []string{"l"}, Action: "loop", Name: "loop: decide what it reacts to", Hint: "loop",
		Group: view.GroupUnit,
		When: func(m *view.Model) bool {
			u := m.SelectedUnit()
			return panels.Looping(m) != nil || u != nil && u.Loop != nil
		},
		Unless: "it is in no loop", Do: panels.ShowLoop},
	{Keys: []string{"enter"}, Name: "explain the failure of a broken unit", Hint: "explain",
		Group: view.GroupUnit, When: lanes.SelectedBroken, Unless: "it is not broken", Do: panels.ShowWhy},
}

// viewKeys change the view from anywhere.
var viewKeys = []view.Binding{
	{Keys: []string{"L"}, Action: "lanes", Name: "lanes and stream", Group: view.GroupView,
		Do: (*view.Model).BackToLanes},
	{Keys: []string{"R"}, Action: "ripples", Name: "ripples: what each save set off, as a waterfall",
		Hint: "ripples", Group: view.GroupView, Do: ripples.Show},
	{Keys: []string{"W"}, Action: "changes", Name: "what changed: the lines of the newest save", Group: view.GroupView,
		Do: ripples.ShowChanges},
	{Keys: []string{"U"}, Action: "unit", Name: "unit: the selected unit in full", Group: view.GroupView,
		Do: unitview.Show},
	{Keys: []string{"M"}, Action: "map", Name: "map: units, links, what a save would do", Group: view.GroupView,
		Do: mapview.Show},
	{Keys: []string{"C"}, Action: "charts", Name: "charts over time", Group: view.GroupView, Do: charts.Show},
	{Keys: []string{":"}, Action: "command-line", Name: "find an action by name", Hint: "actions",
		Group: view.GroupView, Do: openCommandLine},
}

// projectKeys act on the whole project.
var projectKeys = []view.Binding{
	{Keys: []string{"ctrl+r"}, Action: "restart-all", Name: "restart and rerun everything", Group: view.GroupProject,
		Do: func(m *view.Model) { m.Ask(api.Restart) }},
	{Keys: []string{"D"}, Action: "doubts", Name: "list the doubts about the verdict", Hint: "doubts",
		Group: view.GroupProject,
		When:  func(m *view.Model) bool { return len(m.Snap.Doubts) > 0 }, Unless: "there are no doubts",
		Do: panels.ShowDoubts},
	{Keys: []string{"P"}, Action: "projects", Name: "list the other running projects, and show one",
		Group: view.GroupProject,
		When:  func(m *view.Model) bool { return m.ListOthers != nil }, Unless: "no other project is known here",
		Do: panels.ShowProjects},
	{Keys: []string{"O"}, Action: "observed", Name: "compare its rules with what it reads and writes",
		Group: view.GroupProject, Do: panels.ShowObserved},
	{Keys: []string{"ctrl+p"}, Action: "pause-all", Name: "pause all reactions, or resume them",
		Group: view.GroupProject,
		Do:    func(m *view.Model) { m.Ask(pauseOrResumeAll(m)) }},
	{Keys: []string{"q", "ctrl+c"}, Action: "quit", Name: "leave: stop everything, or keep it running",
		Hint: "quit", Group: view.GroupProject, Do: quit},
}

// screenKeys act on the screen.
var screenKeys = []view.Binding{
	{Keys: []string{"w"}, Action: "write-drawing", Name: "write the view as SVG or PDF",
		Group: view.GroupScreen,
		When:  canDraw, Unless: "this view cannot be written as a drawing", Do: askDrawing},
	{Keys: []string{"m"}, Action: "mouse", Name: "mouse: select text or control the screen", Group: view.GroupScreen,
		Do: toggleMouse},
	{Keys: []string{"ctrl+z"}, Action: "suspend", Name: "suspend this screen (fg resumes it)",
		Group: view.GroupScreen, Do: suspend},
	{Keys: []string{"?"}, Action: "help", Name: "toggle this help", Hint: "help", Group: view.GroupScreen,
		Do: toggleHelp},
}
