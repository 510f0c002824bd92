package tui

import "omnivigil/internal/face/timeline"

// The keys that change the view, and those of single views.

// viewKeys change the view from anywhere.
var viewKeys = []binding{
	{keys: []string{"L"}, action: "lanes", name: "lanes and stream", group: onView, do: (*model).lanesOnly},
	{keys: []string{"R"}, action: "ripples", name: "ripples: what each save set off, as a waterfall",
		hint: "ripples", group: onView, do: showRipples},
	{keys: []string{"U"}, action: "unit", name: "unit: the selected unit in full", group: onView,
		do: showUnit},
	{keys: []string{"M"}, action: "map", name: "map: units, links, what a save would do", group: onView,
		do: showMap},
	{keys: []string{"C"}, action: "charts", name: "charts over time", group: onView, do: showCharts},
	{keys: []string{":"}, action: "command-line", name: "find an action by name", hint: "actions",
		group: onView, do: openCommandLine},
}

var rippleKeys = []binding{
	{in: "ripples", keys: []string{"up", "k"}, name: "next ripple", hint: "select", group: onRipple,
		do: on(func(m *model, v *ripples) { v.move(m, -1) })},
	{in: "ripples", keys: []string{"down", "j"}, name: "previous ripple", group: onRipple,
		do: on(func(m *model, v *ripples) { v.move(m, 1) })},
	{in: "ripples", keys: []string{"pgup", "shift+up"}, name: "10 ripples forward", group: onRipple,
		do: on(func(m *model, v *ripples) { v.move(m, -10) })},
	{in: "ripples", keys: []string{"pgdown", "shift+down"}, name: "10 ripples back", group: onRipple,
		do: on(func(m *model, v *ripples) { v.move(m, 10) })},
	{in: "ripples", keys: []string{"home", "g"}, name: "newest ripple", group: onRipple,
		do: on(func(m *model, v *ripples) { v.choose(m, 0) })},
	{in: "ripples", keys: []string{"end", "G"}, name: "oldest known ripple", group: onRipple,
		do: on(func(m *model, v *ripples) { v.choose(m, len(m.snap.Ripples)) })},
	{in: "ripples", keys: []string{"right", "tab"}, name: "next run in the waterfall", hint: "next run",
		group: onRipple, do: on(func(m *model, v *ripples) { v.moveBar(m, 1) })},
	{in: "ripples", keys: []string{"left", "shift+tab"}, name: "previous run in the waterfall", group: onRipple,
		do: on(func(m *model, v *ripples) { v.moveBar(m, -1) })},
	{in: "ripples", keys: []string{"enter"}, name: "go to the run's time in lanes and stream",
		hint: "go to that time", group: onRipple, do: on(func(m *model, v *ripples) { v.goToRun(m) })},
	{in: "ripples", keys: []string{"o"}, name: "show only this ripple's output", hint: "only its output",
		group: onRipple, do: on(func(m *model, v *ripples) { v.onlyOutput(m) })},
	{in: "ripples", keys: []string{"v"}, name: "compare with an earlier ripple of the same files", hint: "compare",
		group: onRipple,
		do:    on(func(_ *model, v *ripples) { v.compare = !v.compare })},
	{in: "ripples", keys: []string{"esc", "R"}, name: "back to the lanes", hint: "back", group: onRipple,
		do: (*model).lanesOnly},
}

var unitViewKeys = []binding{
	{in: "unit", keys: []string{"pgdown", "space"}, name: "scroll down", hint: "scroll down", group: onWhole,
		do: on(func(_ *model, v *unitView) { v.top += 10 })},
	{in: "unit", keys: []string{"pgup"}, name: "scroll up", group: onWhole,
		do: on(func(_ *model, v *unitView) { v.top -= 10 })},
	{in: "unit", keys: []string{"home", "g"}, name: "to the beginning", group: onWhole,
		do: on(func(_ *model, v *unitView) { v.top = 0 })},
	{in: "unit", keys: []string{"esc", "U"}, name: "back to the lanes", hint: "back", group: onWhole,
		do: (*model).lanesOnly},
}

var mapKeys = []binding{
	{in: "map", keys: []string{"up", "k"}, name: "previous unit", hint: "select", group: onMap,
		do: on(func(m *model, v *mapView) { v.walk(m, 0, -1) })},
	{in: "map", keys: []string{"down", "j"}, name: "next unit", group: onMap,
		do: on(func(m *model, v *mapView) { v.walk(m, 0, 1) })},
	{in: "map", keys: []string{"left"}, name: "go along a line to what it needs or follows", group: onMap,
		do: on(func(m *model, v *mapView) { v.walk(m, -1, 0) })},
	{in: "map", keys: []string{"right"}, name: "go along a line to what needs or follows it", group: onMap,
		do: on(func(m *model, v *mapView) { v.walk(m, 1, 0) })},
	{in: "map", keys: []string{"/"}, name: "if I save a path?", hint: "if I save", group: onMap,
		do: on(func(m *model, v *mapView) { v.askPath(m) })},
	{in: "map", keys: []string{"v"}, name: "what if the selected unit were restarted?", hint: "if restarted",
		group: onMap, do: on(func(m *model, v *mapView) { v.ifRestarted(m) })},
	{in: "map", keys: []string{"i"}, name: "show the selected unit and its links, or all", hint: "linked units",
		group: onMap,
		do:    on(func(_ *model, v *mapView) { v.around = !v.around })},
	{in: "map", keys: []string{"tab"}, name: "members of the next group", hint: "groups", group: onMap,
		when: func(m *model) bool { return len(m.snap.Project.Groups) > 0 },
		do:   on(func(m *model, v *mapView) { v.nextGroup(m) })},
	{in: "map", keys: []string{"z"}, name: "fold or unfold similar units", group: onMap,
		do: on(func(_ *model, v *mapView) { v.unfold = !v.unfold })},
	{in: "map", keys: []string{"enter"}, name: "unit: the selected unit in full", hint: "unit", group: onMap,
		do: showUnit},
	{in: "map", keys: []string{"esc"}, name: "clear the question, or back to the lanes", hint: "back",
		group: onMap, do: on(func(m *model, v *mapView) {
			if !v.lit() {
				m.lanesOnly()
			}
			v.forget()
		})},
	{in: "map", keys: []string{"M"}, name: "back to the lanes", group: onMap, do: (*model).lanesOnly},
}

var chartKeys = []binding{
	{in: "charts", keys: []string{"1"}, name: string(timeline.Measures[0]), group: onChart, do: measured(0)},
	{in: "charts", keys: []string{"2"}, name: string(timeline.Measures[1]), group: onChart, do: measured(1)},
	{in: "charts", keys: []string{"3"}, name: string(timeline.Measures[2]), group: onChart, do: measured(2)},
	{in: "charts", keys: []string{"4"}, name: timeline.Measures[3].Words(), group: onChart, do: measured(3)},
	{in: "charts", keys: []string{"5"}, name: timeline.Measures[4].Words(), group: onChart, do: measured(4)},
	{in: "charts", keys: []string{"enter"}, name: "show the selected unit, or all", hint: "this unit",
		group: onChart, do: on(func(_ *model, v *charts) { v.alone = !v.alone })},
	{in: "charts", keys: []string{"o"}, name: "sort by size, or as in the file", hint: "sort by size",
		group: onChart, do: on(func(_ *model, v *charts) { v.largest = !v.largest })},
	{in: "charts", keys: []string{"pgdown"}, name: "next units", group: onChart,
		do: on(func(_ *model, v *charts) { v.top += 3 })},
	{in: "charts", keys: []string{"pgup"}, name: "previous units", group: onChart,
		do: on(func(_ *model, v *charts) { v.top -= 3 })},
	{in: "charts", keys: []string{"esc"}, name: "back to now, or to the lanes", hint: "back", group: onChart,
		do: func(m *model) {
			if m.at.IsZero() {
				m.lanesOnly()
			}
			backToNow(m)
		}},
	{in: "charts", keys: []string{"C"}, name: "back to the lanes", group: onChart, do: (*model).lanesOnly},
}

func measured(measure int) func(*model) { return on(func(_ *model, v *charts) { v.choose(measure) }) }

// fieldKeys are those of the fields of these views.
var fieldKeys = []binding{
	{in: "path", keys: []string{"enter"}, name: "ask", hint: "ask", group: onField,
		do: on(func(m *model, f *pathField) { f.submit(m) })},
	{in: "path", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).close},

	{in: "command line", keys: []string{"enter"}, name: "do it", hint: "do it", group: onField,
		do: on(func(m *model, c *commandLine) { c.submit(m) })},
	{in: "command line", keys: []string{"tab"}, name: "complete", hint: "complete", group: onField,
		do: on(func(m *model, c *commandLine) { c.complete(m) })},
	{in: "command line", keys: []string{"up"}, name: "previous action", hint: "select", group: onField,
		do: on(func(_ *model, c *commandLine) { c.choose(-1) })},
	{in: "command line", keys: []string{"down"}, name: "next action", group: onField,
		do: on(func(_ *model, c *commandLine) { c.choose(1) })},
	{in: "command line", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).close},
}
