package overview

import (
	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/view"
)

// SelectKeys select a unit.
var SelectKeys = []view.Binding{
	{Keys: []string{"up", "k"}, Action: "previous-unit", Name: "previous unit", Hint: "select", Group: view.GroupUnit,
		When: several, Unless: onlyOne, Do: func(m *view.Model) { Of(m).Lanes.Move(m, -1) }},
	{Keys: []string{"down", "j"}, Action: "next-unit", Name: "next unit", Group: view.GroupUnit,
		When: several, Unless: onlyOne, Do: func(m *view.Model) { Of(m).Lanes.Move(m, 1) }},
	{Keys: []string{"!"}, Action: "next-broken", Name: "next broken unit", Hint: "next broken",
		Group: view.GroupUnit,
		When:  lanes.AnyBroken, Unless: "nothing is broken", Do: func(m *view.Model) { Of(m).Lanes.NextBroken(m) }},
	{Keys: []string{"f"}, Action: "find-units", Name: "find units by name, kind, state or group",
		Group: view.GroupUnit, Do: FindUnits},
	{Keys: []string{"ctrl+o"}, Action: "only", Name: "run only the units found, or everything again",
		Group: view.GroupProject, Do: runOnly},
}

// OnlyKeys show only the output of the selected unit.
var OnlyKeys = []view.Binding{
	{Keys: []string{"enter"}, Action: "only-its-output", Name: "show only its output, or all",
		Hint: "only its output", Group: view.GroupUnit, When: severalAndWell, Unless: onlyOne,
		Do: func(m *view.Model) { Focused(m).Only(m) }},
}

// TimeKeys move along the axis of time.
var TimeKeys = []view.Binding{
	{Keys: []string{"left"}, Action: "time-back", Name: "go back in time", Hint: "time", Group: view.GroupTime,
		Do: func(m *view.Model) { moveTime(m, -1) }},
	{Keys: []string{"right"}, Action: "time-forward", Name: "go forward in time", Group: view.GroupTime,
		Do: func(m *view.Model) { moveTime(m, 1) }},
	{Keys: []string{"["}, Action: "previous-save", Name: "previous save", Group: view.GroupTime,
		Do: func(m *view.Model) { moveSave(m, -1) }},
	{Keys: []string{"]"}, Action: "next-save", Name: "next save", Group: view.GroupTime,
		Do: func(m *view.Model) { moveSave(m, 1) }},
	{Keys: []string{","}, Action: "turned-bad", Name: "go to when the verdict last turned bad", Group: view.GroupTime,
		Do: func(m *view.Model) { moveTurn(m, api.TurnedBad) }},
	{Keys: []string{";"}, Action: "turned-good", Name: "go to when the verdict last turned good",
		Group: view.GroupTime, Do: func(m *view.Model) { moveTurn(m, api.TurnedGood) }},
	{Keys: []string{".", "esc", "end", "G"}, Action: "now", Name: "back to now", Hint: "now", Group: view.GroupTime,
		When: func(m *view.Model) bool { return !IsAtNow(m) }, Unless: "this is now",
		Do: func(m *view.Model) { BackToNow(m) }},
	{Keys: []string{"+", "="}, Action: "zoom-in", Name: "zoom in", Hint: "zoom", Group: view.GroupTime,
		When: showsAxis, Unless: noAxis, Do: func(m *view.Model) { zoom(m, -1) }},
	{Keys: []string{"-"}, Action: "zoom-out", Name: "zoom out", Group: view.GroupTime,
		When: showsAxis, Unless: noAxis, Do: func(m *view.Model) { zoom(m, 1) }},
}

// LaneKeys set how lanes are shown.
var LaneKeys = []view.Binding{
	{Keys: []string{"|"}, Action: "lane-height", Name: "height of the lanes: half, a quarter, most",
		Group: view.GroupScreen, When: showsLanes, Unless: noLanes,
		Do: func(m *view.Model) { Of(m).Lanes.NextHeight() }},
	{Keys: []string{"o"}, Action: "sort-lanes", Name: "sort lanes by file, need or problem", Group: view.GroupScreen,
		When: showsSeveral, Unless: fewLanes, Do: func(m *view.Model) { Of(m).Lanes.NextOrder(m) }},
	{Keys: []string{"z"}, Action: "fold", Name: "fold or unfold quiet units", Group: view.GroupScreen,
		When: showsSeveral, Unless: fewLanes, Do: func(m *view.Model) { Of(m).Lanes.Fold() }},
}

// Bindings are those of the fields over the overview, and of selecting lines.
var Bindings = []view.Binding{
	{In: "search", Keys: []string{"enter"}, Name: "keep", Hint: "keep", Group: view.GroupField,
		Do: (*view.Model).Close},
	{In: "search", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *searchField) { f.cancel(m) })},
	{In: "search", Keys: []string{"up"}, Name: "previous match", Hint: "previous", Group: view.GroupField,
		Do: func(m *view.Model) { Focused(m).Next(m, -1) }},
	{In: "search", Keys: []string{"down"}, Name: "next match", Hint: "next", Group: view.GroupField,
		Do: func(m *view.Model) { Focused(m).Next(m, 1) }},
	{In: "filter", Keys: []string{"enter"}, Name: "keep", Hint: "keep", Group: view.GroupField,
		Do: (*view.Model).Close},
	{In: "filter", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *filterField) { f.cancel(m) })},
	{In: "lines", Keys: []string{"up", "k"}, Name: "previous line", Hint: "select", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.Point(-1) })},
	{In: "lines", Keys: []string{"down", "j"}, Name: "next line", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.Point(1) })},
	{In: "lines", Keys: []string{"left"}, Name: "previous value in the line", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.PointValue(-1) })},
	{In: "lines", Keys: []string{"right"}, Name: "next value in the line", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.PointValue(1) })},
	{In: "lines", Keys: []string{"f"}, Name: "filter by the value: follow it through all units",
		Hint: "follow the value", Group: view.GroupLines,
		Do: view.On(func(m *view.Model, p *picking) { p.followValue(m) })},
	{In: "lines", Keys: []string{"pgup"}, Name: "page up", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.Point(-p.of.Height) })},
	{In: "lines", Keys: []string{"pgdown"}, Name: "page down", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.Point(p.of.Height) })},
	{In: "lines", Keys: []string{"space"}, Name: "start selecting here", Hint: "from here", Group: view.GroupLines,
		Do: view.On(func(_ *view.Model, p *picking) { p.of.ToggleSelecting() })},
	{In: "lines", Keys: []string{"enter"}, Name: "copy", Hint: "copy", Group: view.GroupLines,
		Do: view.On(func(m *view.Model, p *picking) { p.copy(m) })},
	{In: "lines", Keys: []string{"w"}, Name: "write to a file", Hint: "write", Group: view.GroupLines,
		Do: view.On(func(m *view.Model, p *picking) { p.write(m) })},
	{In: "lines", Keys: []string{"e"}, Name: "open the line's location in the editor", Hint: "editor",
		Group: view.GroupLines, Do: view.On(func(m *view.Model, p *picking) { p.edit(m) })},
	{In: "lines", Keys: []string{"b"}, Name: "open its address in the browser", Hint: "browser", Group: view.GroupLines,
		Do: view.On(func(m *view.Model, p *picking) { p.follow(m) })},
	{In: "lines", Keys: []string{"\""}, Name: "mark or unmark", Hint: "mark", Group: view.GroupLines,
		Do: view.On(func(m *view.Model, p *picking) { p.mark(m) })},
	{In: "lines", Keys: []string{"#"}, Name: "raw or readable", Hint: "raw", Group: view.GroupLines,
		Do: func(m *view.Model) { Focused(m).ToggleRaw() }},
	{In: "lines", Keys: []string{"esc", "ctrl+c", "q"}, Name: "back", Hint: "back", Group: view.GroupLines,
		Do: (*view.Model).Close},
	{In: "find", Keys: []string{"enter"}, Name: "keep", Hint: "keep", Group: view.GroupField, Do: (*view.Model).Close},
	{In: "find", Keys: []string{"esc", "ctrl+c"}, Name: "show all", Hint: "show all", Group: view.GroupField,
		Do: showAll},
	{In: "find", Keys: []string{"up"}, Name: "previous unit", Hint: "select", Group: view.GroupField,
		Do: func(m *view.Model) { Of(m).Lanes.Move(m, -1) }},
	{In: "find", Keys: []string{"down"}, Name: "next unit", Group: view.GroupField,
		Do: func(m *view.Model) { Of(m).Lanes.Move(m, 1) }},
}

// Why keys do nothing.
const (
	onlyOne  = "there is only one unit"
	noSearch = "nothing is searched for: / searches"
	noLanes  = "it acts on the lanes; L shows them"
	noAxis   = "there is no axis of time here; L and C show one"
	fewLanes = "it acts on several lanes; L shows those there are"
)

// several reports whether there is more than one unit.
func several(m *view.Model) bool { return len(m.Snap.Units) > 1 }

// severalAndWell is several, with a selected unit that is not broken: enter explains a broken one.
func severalAndWell(m *view.Model) bool {
	return several(m) && !lanes.SelectedBroken(m) && showsFilter(m)
}

// showsLanes reports whether the lanes are visible, and showsSeveral whether there are several.
func showsLanes(m *view.Model) bool   { return m.Top() == view.View(Of(m)) }
func showsSeveral(m *view.Model) bool { return showsLanes(m) && several(m) }

// showsAxis reports whether the axis of time is visible.
func showsAxis(m *view.Model) bool {
	_, other := m.Top().(interface{ ShowsAxis() })
	return other || showsLanes(m)
}
