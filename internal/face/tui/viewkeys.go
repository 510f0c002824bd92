package tui

import (
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/view"
)

// The keys that change the view, and those of single views.

// viewKeys change the view from anywhere.
var viewKeys = []view.Binding{
	{Keys: []string{"L"}, Action: "lanes", Name: "lanes and stream", Group: view.GroupView, Do: (*view.Model).BackToLanes},
	{Keys: []string{"R"}, Action: "ripples", Name: "ripples: what each save set off, as a waterfall",
		Hint: "ripples", Group: view.GroupView, Do: showRipples},
	{Keys: []string{"U"}, Action: "unit", Name: "unit: the selected unit in full", Group: view.GroupView,
		Do: showUnit},
	{Keys: []string{"M"}, Action: "map", Name: "map: units, links, what a save would do", Group: view.GroupView,
		Do: showMap},
	{Keys: []string{"C"}, Action: "charts", Name: "charts over time", Group: view.GroupView, Do: showCharts},
	{Keys: []string{":"}, Action: "command-line", Name: "find an action by name", Hint: "actions",
		Group: view.GroupView, Do: openCommandLine},
}

var rippleKeys = []view.Binding{
	{In: "ripples", Keys: []string{"up", "k"}, Name: "next ripple", Hint: "select", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, -1) })},
	{In: "ripples", Keys: []string{"down", "j"}, Name: "previous ripple", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, 1) })},
	{In: "ripples", Keys: []string{"pgup", "shift+up"}, Name: "10 ripples forward", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, -10) })},
	{In: "ripples", Keys: []string{"pgdown", "shift+down"}, Name: "10 ripples back", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, 10) })},
	{In: "ripples", Keys: []string{"home", "g"}, Name: "newest ripple", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.choose(m, 0) })},
	{In: "ripples", Keys: []string{"end", "G"}, Name: "oldest known ripple", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.choose(m, len(m.Snap.Ripples)) })},
	{In: "ripples", Keys: []string{"right", "tab"}, Name: "next run in the waterfall", Hint: "next run",
		Group: view.GroupRipples, Do: view.On(func(m *view.Model, v *ripples) { v.moveBar(m, 1) })},
	{In: "ripples", Keys: []string{"left", "shift+tab"}, Name: "previous run in the waterfall", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.moveBar(m, -1) })},
	{In: "ripples", Keys: []string{"enter"}, Name: "go to the run's time in lanes and stream",
		Hint: "go to that time", Group: view.GroupRipples, Do: view.On(func(m *view.Model, v *ripples) { v.goToRun(m) })},
	{In: "ripples", Keys: []string{"o"}, Name: "show only this ripple's output", Hint: "only its output",
		Group: view.GroupRipples, Do: view.On(func(m *view.Model, v *ripples) { v.onlyOutput(m) })},
	{In: "ripples", Keys: []string{"v"}, Name: "compare with an earlier ripple of the same files", Hint: "compare",
		Group: view.GroupRipples,
		Do:    view.On(func(_ *view.Model, v *ripples) { v.compare = !v.compare })},
	{In: "ripples", Keys: []string{"esc", "R"}, Name: "back to the lanes", Hint: "back", Group: view.GroupRipples,
		Do: (*view.Model).BackToLanes},
}

var unitViewKeys = []view.Binding{
	{In: "unit", Keys: []string{"pgdown", "space"}, Name: "scroll down", Hint: "scroll down", Group: view.GroupUnitView,
		Do: view.On(func(_ *view.Model, v *unitView) { v.top += 10 })},
	{In: "unit", Keys: []string{"pgup"}, Name: "scroll up", Group: view.GroupUnitView,
		Do: view.On(func(_ *view.Model, v *unitView) { v.top -= 10 })},
	{In: "unit", Keys: []string{"home", "g"}, Name: "to the beginning", Group: view.GroupUnitView,
		Do: view.On(func(_ *view.Model, v *unitView) { v.top = 0 })},
	{In: "unit", Keys: []string{"esc", "U"}, Name: "back to the lanes", Hint: "back", Group: view.GroupUnitView,
		Do: (*view.Model).BackToLanes},
}

var mapKeys = []view.Binding{
	{In: "map", Keys: []string{"up", "k"}, Name: "previous unit", Hint: "select", Group: view.GroupMap,
		Do: view.On(func(m *view.Model, v *mapView) { v.walk(m, 0, -1) })},
	{In: "map", Keys: []string{"down", "j"}, Name: "next unit", Group: view.GroupMap,
		Do: view.On(func(m *view.Model, v *mapView) { v.walk(m, 0, 1) })},
	{In: "map", Keys: []string{"left"}, Name: "go along a line to what it needs or follows", Group: view.GroupMap,
		Do: view.On(func(m *view.Model, v *mapView) { v.walk(m, -1, 0) })},
	{In: "map", Keys: []string{"right"}, Name: "go along a line to what needs or follows it", Group: view.GroupMap,
		Do: view.On(func(m *view.Model, v *mapView) { v.walk(m, 1, 0) })},
	{In: "map", Keys: []string{"/"}, Name: "if I save a path?", Hint: "if I save", Group: view.GroupMap,
		Do: view.On(func(m *view.Model, v *mapView) { v.askPath(m) })},
	{In: "map", Keys: []string{"v"}, Name: "what if the selected unit were restarted?", Hint: "if restarted",
		Group: view.GroupMap, Do: view.On(func(m *view.Model, v *mapView) { v.ifRestarted(m) })},
	{In: "map", Keys: []string{"i"}, Name: "show the selected unit and its links, or all", Hint: "linked units",
		Group: view.GroupMap,
		Do:    view.On(func(_ *view.Model, v *mapView) { v.around = !v.around })},
	{In: "map", Keys: []string{"tab"}, Name: "members of the next group", Hint: "groups", Group: view.GroupMap,
		When: func(m *view.Model) bool { return len(m.Snap.Project.Groups) > 0 },
		Do:   view.On(func(m *view.Model, v *mapView) { v.nextGroup(m) })},
	{In: "map", Keys: []string{"z"}, Name: "fold or unfold similar units", Group: view.GroupMap,
		Do: view.On(func(_ *view.Model, v *mapView) { v.unfold = !v.unfold })},
	{In: "map", Keys: []string{"enter"}, Name: "unit: the selected unit in full", Hint: "unit", Group: view.GroupMap,
		Do: showUnit},
	{In: "map", Keys: []string{"esc"}, Name: "clear the question, or back to the lanes", Hint: "back",
		Group: view.GroupMap, Do: view.On(func(m *view.Model, v *mapView) {
			if !v.lit() {
				m.BackToLanes()
			}
			v.forget()
		})},
	{In: "map", Keys: []string{"M"}, Name: "back to the lanes", Group: view.GroupMap, Do: (*view.Model).BackToLanes},
}

var chartKeys = []view.Binding{
	{In: "charts", Keys: []string{"1"}, Name: string(timeline.Measures[0]), Group: view.GroupCharts, Do: measured(0)},
	{In: "charts", Keys: []string{"2"}, Name: string(timeline.Measures[1]), Group: view.GroupCharts, Do: measured(1)},
	{In: "charts", Keys: []string{"3"}, Name: string(timeline.Measures[2]), Group: view.GroupCharts, Do: measured(2)},
	{In: "charts", Keys: []string{"4"}, Name: timeline.Measures[3].Words(), Group: view.GroupCharts, Do: measured(3)},
	{In: "charts", Keys: []string{"5"}, Name: timeline.Measures[4].Words(), Group: view.GroupCharts, Do: measured(4)},
	{In: "charts", Keys: []string{"enter"}, Name: "show the selected unit, or all", Hint: "this unit",
		Group: view.GroupCharts, Do: view.On(func(_ *view.Model, v *charts) { v.alone = !v.alone })},
	{In: "charts", Keys: []string{"o"}, Name: "sort by size, or as in the file", Hint: "sort by size",
		Group: view.GroupCharts, Do: view.On(func(_ *view.Model, v *charts) { v.largest = !v.largest })},
	{In: "charts", Keys: []string{"pgdown"}, Name: "next units", Group: view.GroupCharts,
		Do: view.On(func(_ *view.Model, v *charts) { v.top += 3 })},
	{In: "charts", Keys: []string{"pgup"}, Name: "previous units", Group: view.GroupCharts,
		Do: view.On(func(_ *view.Model, v *charts) { v.top -= 3 })},
	{In: "charts", Keys: []string{"esc"}, Name: "back to now, or to the lanes", Hint: "back", Group: view.GroupCharts,
		Do: func(m *view.Model) {
			if m.At.IsZero() {
				m.BackToLanes()
			}
			backToNow(m)
		}},
	{In: "charts", Keys: []string{"C"}, Name: "back to the lanes", Group: view.GroupCharts, Do: (*view.Model).BackToLanes},
}

func measured(measure int) func(*view.Model) {
	return view.On(func(_ *view.Model, v *charts) { v.choose(measure) })
}

// fieldKeys are those of the fields of these views.
var fieldKeys = []view.Binding{
	{In: "path", Keys: []string{"enter"}, Name: "ask", Hint: "ask", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *pathField) { f.submit(m) })},
	{In: "path", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: (*view.Model).Close},

	{In: "command line", Keys: []string{"enter"}, Name: "do it", Hint: "do it", Group: view.GroupField,
		Do: view.On(func(m *view.Model, c *commandLine) { c.submit(m) })},
	{In: "command line", Keys: []string{"tab"}, Name: "complete", Hint: "complete", Group: view.GroupField,
		Do: view.On(func(m *view.Model, c *commandLine) { c.complete(m) })},
	{In: "command line", Keys: []string{"up"}, Name: "previous action", Hint: "select", Group: view.GroupField,
		Do: view.On(func(_ *view.Model, c *commandLine) { c.choose(-1) })},
	{In: "command line", Keys: []string{"down"}, Name: "next action", Group: view.GroupField,
		Do: view.On(func(_ *view.Model, c *commandLine) { c.choose(1) })},
	{In: "command line", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: (*view.Model).Close},
}
