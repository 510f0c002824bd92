package tui

import (
	"omnivigil/internal/face/tui/view"

	tea "charm.land/bubbletea/v2"
)

// lookField asks what to search for. The stream moves to the first match while the user types.
type lookField struct {
	view.Field
	before position
}

func searchOutput(m *view.Model) {
	s := focused(m)
	m.Open(&lookField{m.NewField(overviewOf(m), "search", "search  ", "text, or /an expression/", s.search.text), s.position})
}

func (f *lookField) Update(m *view.Model, msg tea.Msg) {
	f.Typed(m, msg)
	if s := focused(m); f.Input.Value() != s.search.text {
		s.position = f.before
		s.look(m, f.Input.Value())
	}
}

func (*lookField) Wrong(m *view.Model) string { return focused(m).search.problem }

func (*lookField) Status(m *view.Model) string { return focused(m).search.status(m) }

// cancel goes back to where the stream was.
func (f *lookField) cancel(m *view.Model) {
	s := focused(m)
	s.look(m, "")
	if s.position = f.before; s.following() {
		backToNow(m)
	}
	m.Close()
}
