package overview

import (
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"

	tea "charm.land/bubbletea/v2"
)

// lookField asks what to search for. The stream moves to the first match while the user types.
type lookField struct {
	view.Field
	before stream.Position
}

func SearchOutput(m *view.Model) {
	s := Focused(m)
	m.Open(&lookField{m.NewField(Of(m), "search", "search  ", "text, or /an expression/", s.SearchText()), s.Position})
}

func (f *lookField) Update(m *view.Model, msg tea.Msg) {
	f.Typed(m, msg)
	if s := Focused(m); f.Input.Value() != s.SearchText() {
		s.Position = f.before
		s.Look(m, f.Input.Value())
	}
}

func (*lookField) Wrong(m *view.Model) string { return Focused(m).SearchProblem() }

func (*lookField) Status(m *view.Model) string { return Focused(m).SearchStatus(m) }

// cancel goes back to where the stream was.
func (f *lookField) cancel(m *view.Model) {
	s := Focused(m)
	s.Look(m, "")
	if s.Position = f.before; s.Following() {
		BackToNow(m)
	}
	m.Close()
}
