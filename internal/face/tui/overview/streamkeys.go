package overview

import (
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
)

// VisibleOutput returns the output that is visible, which the keys for output act on: the focused stream, or that of
// the view on top. It returns nil if that view shows none.
func VisibleOutput(m *view.Model) *stream.Stream {
	switch top := m.Top().(type) {
	case *Overview:
		return Focused(m)
	case interface{ VisibleOutput() *stream.Stream }:
		return top.VisibleOutput()
	}
	return nil
}

// StreamKeys act on the output that is visible. Those that open a field or a selection open it over the stream.
var StreamKeys = []view.Binding{
	onOutput(view.Binding{Keys: []string{"pgup", "ctrl+u"}, Action: "scroll-up", Name: "scroll up"},
		func(m *view.Model, s *stream.Stream) { s.Pages(m, -1) }),
	onOutput(view.Binding{Keys: []string{"pgdown", "ctrl+d", "space"}, Action: "scroll-down", Name: "scroll down"},
		func(m *view.Model, s *stream.Stream) { s.Pages(m, 1) }),
	onOutput(view.Binding{Keys: []string{"shift+up"}, Action: "line-up", Name: "scroll up one line"},
		func(m *view.Model, s *stream.Stream) { s.Scroll(m, -1) }),
	onOutput(view.Binding{Keys: []string{"shift+down"}, Action: "line-down", Name: "scroll down one line"},
		func(m *view.Model, s *stream.Stream) { s.Scroll(m, 1) }),
	onOutput(view.Binding{Keys: []string{"home", "g"}, Action: "first-line", Name: "first line"},
		func(_ *view.Model, s *stream.Stream) { s.First() }),
	onOutput(view.Binding{Keys: []string{"("}, Action: "previous-run", Name: "previous run"},
		func(m *view.Model, s *stream.Stream) { s.Jump(m, query.Start, -1) }),
	onOutput(view.Binding{Keys: []string{")"}, Action: "next-run", Name: "next run"},
		func(m *view.Model, s *stream.Stream) { s.Jump(m, query.Start, 1) }),
	onOutput(view.Binding{Keys: []string{"{"}, Action: "previous-failure", Name: "previous failure"},
		func(m *view.Model, s *stream.Stream) { s.Jump(m, query.Failure, -1) }),
	onOutput(view.Binding{Keys: []string{"}"}, Action: "next-failure", Name: "next failure"},
		func(m *view.Model, s *stream.Stream) { s.Jump(m, query.Failure, 1) }),
	{Keys: []string{"/"}, Action: "search", Name: "search the output", Hint: "search",
		Group: view.GroupStream, Do: SearchOutput},
	{Keys: []string{"n"}, Action: "next-match", Name: "next match", Hint: "next match", Group: view.GroupStream,
		When: isSearching, Unless: noSearch, Do: func(m *view.Model) { VisibleOutput(m).Next(m, 1) }},
	{Keys: []string{"N"}, Action: "previous-match", Name: "previous match", Group: view.GroupStream,
		When: isSearching, Unless: noSearch, Do: func(m *view.Model) { VisibleOutput(m).Next(m, -1) }},
	{Keys: []string{"&"}, Action: "filter", Name: "filter lines by text, unit, run or level",
		Hint: "filter", Group: view.GroupStream, Do: FilterOutput},
	onFilter(view.Binding{Keys: []string{"_"}, Action: "mute", Name: "mute the selected unit's output, or show it again"},
		func(m *view.Model, s *stream.Stream) { s.Mute(m) }),
	onFilter(view.Binding{Keys: []string{"^"}, Action: "last-save", Name: "show only the last save's output, or all"},
		func(m *view.Model, s *stream.Stream) { s.LastSave(m) }),
	onFilter(view.Binding{Keys: []string{"~"}, Action: "level", Name: "show warnings and errors, errors, or all"},
		func(m *view.Model, s *stream.Stream) { s.Level(m) }),
	{Keys: []string{"backspace"}, Action: "show-all", Name: "show all lines and end the search",
		Hint: "show all", Group: view.GroupStream,
		When:   func(m *view.Model) bool { return showsFilter(m) && len(Focused(m).Filter) > 0 || isSearching(m) },
		Unless: "all lines are shown", Do: noFilter},
	{Keys: []string{"\""}, Action: "select-lines", Name: "select lines to copy, mark or open",
		Hint: "select lines", Group: view.GroupStream, Do: pick},
	onOutput(view.Binding{Keys: []string{"'"}, Action: "previous-mark", Name: "previous marked line"}, previousMark),
	{Keys: []string{"%"}, Action: "write-output", Name: "write the output as text, JSON lines or HTML",
		Group: view.GroupStream, Do: saveOutput},
	onOutput(view.Binding{Keys: []string{"@"}, Action: "times", Name: "times: of day, since the save, since a line"},
		func(_ *view.Model, s *stream.Stream) { s.NextTimes() }),
	onOutput(view.Binding{Keys: []string{"#"}, Action: "raw", Name: "lines for programs: raw or readable"},
		func(_ *view.Model, s *stream.Stream) { s.ToggleRaw() }),
	onOutput(view.Binding{Keys: []string{"$"}, Action: "similar",
		Name: "fold lines that differ only in numbers, or unfold"},
		func(m *view.Model, s *stream.Stream) { s.ToggleSimilar(m) }),
	onOutput(view.Binding{Keys: []string{"\\"}, Action: "wrap", Name: "cut long lines, or wrap them"},
		func(_ *view.Model, s *stream.Stream) { s.ToggleWrap() }),
	onFilter(view.Binding{Keys: []string{"*"}, Action: "second-stream",
		Name: "toggle a second stream, next to it or below"},
		func(m *view.Model, _ *stream.Stream) { Of(m).split(m) }),
	{Keys: []string{"tab"}, Action: "other-stream", Name: "switch to the other stream", Hint: "other stream",
		Group:  view.GroupStream,
		When:   func(m *view.Model) bool { return showsFilter(m) && len(Of(m).Streams) > 1 },
		Unless: "there is only one stream", Do: func(m *view.Model) { Of(m).other() }},
}

// onOutput is a key that acts on the output that is visible.
func onOutput(b view.Binding, do func(*view.Model, *stream.Stream)) view.Binding {
	b.Group, b.Unless = view.GroupStream, "there is no output here; L shows it"
	b.When = func(m *view.Model) bool { return VisibleOutput(m) != nil }
	b.Do = func(m *view.Model) { do(m, VisibleOutput(m)) }
	return b
}

// onFilter is a key that acts on the stream, and not on the output that another view shows.
func onFilter(b view.Binding, do func(*view.Model, *stream.Stream)) view.Binding {
	b = onOutput(b, do)
	b.When, b.Unless = showsFilter, "it acts on the stream; L shows it"
	return b
}

// showsFilter reports whether the output that is visible has a filter which the user can change.
func showsFilter(m *view.Model) bool {
	s := VisibleOutput(m)
	return s != nil && !s.Fixed
}

// isSearching reports whether the stream is searched.
func isSearching(m *view.Model) bool { return showsFilter(m) && VisibleOutput(m).IsSearching() }
