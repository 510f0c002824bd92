package overview

import (
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"

	tea "charm.land/bubbletea/v2"
)

// searchField asks what to search for. The stream moves to the first match while the user types.
type searchField struct {
	view.Field
	before stream.Position
}

func SearchOutput(m *view.Model) {
	s := Focused(m)
	f := m.NewField(Of(m), "search", "search  ", "text, or /an expression/", s.SearchText())
	m.Open(&searchField{f, s.Position})
}

func (f *searchField) Update(m *view.Model, msg tea.Msg) {
	f.Typed(m, msg)
	if s := Focused(m); f.Input.Value() != s.SearchText() {
		s.Position = f.before
		s.Search(m, f.Input.Value())
	}
}

func (*searchField) Wrong(m *view.Model) string { return Focused(m).SearchProblem() }

func (*searchField) Status(m *view.Model) string { return Focused(m).SearchStatus(m) }

// cancel ends the search and restores the position from before.
func (f *searchField) cancel(m *view.Model) {
	s := Focused(m)
	s.Search(m, "")
	if s.Position = f.before; s.Following() {
		BackToNow(m)
	}
	m.Close()
}
