package overview

import (
	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
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
		Do: func(m *view.Model) { zoom(m, -1) }},
	{Keys: []string{"-"}, Action: "zoom-out", Name: "zoom out", Group: view.GroupTime,
		Do: func(m *view.Model) { zoom(m, 1) }},
}

// StreamKeys act on the stream that has the keys.
var StreamKeys = []view.Binding{
	{Keys: []string{"pgup", "ctrl+u"}, Action: "scroll-up", Name: "scroll up", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).Pages(-1) }},
	{Keys: []string{"pgdown", "ctrl+d", "space"}, Action: "scroll-down", Name: "scroll down", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).Pages(1) }},
	{Keys: []string{"shift+up"}, Action: "line-up", Name: "scroll up one line", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).Scroll(-1) }},
	{Keys: []string{"shift+down"}, Action: "line-down", Name: "scroll down one line", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).Scroll(1) }},
	{Keys: []string{"home", "g"}, Action: "first-line", Name: "first line", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).First() }},
	{Keys: []string{"("}, Action: "previous-run", Name: "previous run", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).Jump(m, query.Start, -1) }},
	{Keys: []string{")"}, Action: "next-run", Name: "next run", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).Jump(m, query.Start, 1) }},
	{Keys: []string{"{"}, Action: "previous-failure", Name: "previous failure", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).Jump(m, query.Failure, -1) }},
	{Keys: []string{"}"}, Action: "next-failure", Name: "next failure", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).Jump(m, query.Failure, 1) }},
	{Keys: []string{"/"}, Action: "search", Name: "search the output", Hint: "search",
		Group: view.GroupStream, Do: SearchOutput},
	{Keys: []string{"n"}, Action: "next-match", Name: "next match", Hint: "next match", Group: view.GroupStream,
		When: isSearching, Unless: noSearch, Do: func(m *view.Model) { Focused(m).Next(m, 1) }},
	{Keys: []string{"N"}, Action: "previous-match", Name: "previous match", Group: view.GroupStream, When: isSearching,
		Unless: noSearch,
		Do:     func(m *view.Model) { Focused(m).Next(m, -1) }},
	{Keys: []string{"&"}, Action: "filter", Name: "filter lines by text, unit, run or level",
		Hint: "filter", Group: view.GroupStream, Do: FilterOutput},
	{Keys: []string{"_"}, Action: "mute", Name: "mute the selected unit's output, or show it again",
		Group: view.GroupStream, When: several, Unless: onlyOne,
		Do: func(m *view.Model) { Focused(m).Mute(m) }},
	{Keys: []string{"^"}, Action: "last-save", Name: "show only the last save's output, or all",
		Group: view.GroupStream, Do: func(m *view.Model) { Focused(m).LastSave(m) }},
	{Keys: []string{"~"}, Action: "level", Name: "show warnings and errors, errors, or all", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).Level(m) }},
	{Keys: []string{"backspace"}, Action: "show-all", Name: "show all lines and end the search",
		Hint: "show all", Group: view.GroupStream,
		When:   func(m *view.Model) bool { return len(Focused(m).Filter) > 0 || isSearching(m) },
		Unless: "all lines are shown", Do: noFilter},
	{Keys: []string{"\""}, Action: "select-lines", Name: "select lines to copy, mark or open",
		Hint: "select lines", Group: view.GroupStream, Do: pick},
	{Keys: []string{"'"}, Action: "previous-mark", Name: "previous marked line", Group: view.GroupStream,
		Do: previousMark},
	{Keys: []string{"%"}, Action: "write-output", Name: "write the output as text, JSON lines or HTML",
		Group: view.GroupStream, Do: saveOutput},
	{Keys: []string{"@"}, Action: "times", Name: "times: of day, since the save, since a line", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).NextTimes() }},
	{Keys: []string{"#"}, Action: "raw", Name: "lines for programs: raw or readable", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).ToggleRaw() }},
	{Keys: []string{"$"}, Action: "similar", Name: "fold lines that differ only in numbers, or unfold",
		Group: view.GroupStream,
		Do:    func(m *view.Model) { Focused(m).ToggleSimilar(m) }},
	{Keys: []string{"\\"}, Action: "wrap", Name: "cut long lines, or wrap them", Group: view.GroupStream,
		Do: func(m *view.Model) { Focused(m).ToggleWrap() }},
	{Keys: []string{"*"}, Action: "second-stream", Name: "toggle a second stream, next to it or below",
		Group: view.GroupStream,
		Do:    func(m *view.Model) { Of(m).split(m) }},
	{Keys: []string{"tab"}, Action: "other-stream", Name: "switch to the other stream", Hint: "other stream",
		Group:  view.GroupStream,
		When:   func(m *view.Model) bool { return len(Of(m).Streams) > 1 },
		Unless: "there is only one stream", Do: func(m *view.Model) { Of(m).other() }},
}

// LaneKeys set how lanes are shown.
var LaneKeys = []view.Binding{
	{Keys: []string{"|"}, Action: "lane-height", Name: "height of the lanes: half, a quarter, most",
		Group: view.GroupScreen,
		Do:    func(m *view.Model) { Of(m).Lanes.NextHeight() }},
	{Keys: []string{"o"}, Action: "sort-lanes", Name: "sort lanes by file, need or problem", Group: view.GroupScreen,
		When: several, Unless: onlyOne, Do: func(m *view.Model) { Of(m).Lanes.NextOrder(m) }},
	{Keys: []string{"z"}, Action: "fold", Name: "fold or unfold quiet units", Group: view.GroupScreen,
		When: several, Unless: onlyOne, Do: func(m *view.Model) { Of(m).Lanes.Fold() }},
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
)

// several reports whether there is more than one unit.
func several(m *view.Model) bool { return len(m.Snap.Units) > 1 }

// severalAndWell is several, with a selected unit that is not broken: enter explains a broken one.
func severalAndWell(m *view.Model) bool { return several(m) && !lanes.SelectedBroken(m) }

// isSearching reports whether the stream is searched.
func isSearching(m *view.Model) bool { return Focused(m).IsSearching() }
