package view

import (
	"omnivigil/internal/face/draw"
	"slices"

	tea "charm.land/bubbletea/v2"
)

// View is one of the things that the screen can show. It turns what the model shares and a
// size into rows, and holds only what is its own. Views lie on a stack; the top one is
// drawn and has the keys.
type View interface {
	// Name is under which its bindings are in the table of keys.
	Name() string
	// Draw returns height rows of width cells.
	Draw(m *Model, width, height int) []string
	// Update takes a message that no binding is for.
	Update(m *Model, msg tea.Msg)
	// Grabs reports whether all keys are for it alone, as while one types.
	Grabs(m *Model) bool
}

// closer is a view that has something to end. It is told once when it leaves the stack.
type closer interface{ Closed(m *Model) }

// Asker is a view that asks the project for what it shows. It is let ask after each message, and
// keeps itself from asking for what it has.
type Asker interface{ Ask(m *Model) }

// Framer is a view that has wishes for the terminal: the cursor, the mouse, focus.
type Framer interface {
	Frame(m *Model, frame *tea.View)
}

// Drawable is a view that can be written as a drawing.
type Drawable interface {
	// Drawing returns what the drawing is of, in a word, and what makes it, which may run in the background; nil where
	// there is nothing to draw.
	Drawing(m *Model) (name string, page func() (*draw.Page, error))
}

func (m *Model) Top() View { return m.Stack[len(m.Stack)-1] }

func (m *Model) Open(v View) { m.Stack = append(m.Stack, v) }

// Close closes the top view; the first one stays.
func (m *Model) Close() { m.closeTo(max(len(m.Stack)-1, 1)) }

// closeTo closes all views above the lowest n.
func (m *Model) closeTo(n int) {
	above := m.Stack[n:]
	m.Stack = m.Stack[:n:n]
	for _, v := range slices.Backward(above) {
		if c, ok := v.(closer); ok {
			c.Closed(m)
		}
	}
}

// IsOnStack reports whether a view has not been closed.
func (m *Model) IsOnStack(v View) bool { return slices.Contains(m.Stack, v) }

// IsOpen reports whether the top view has that name.
func (m *Model) IsOpen(name string) bool { return m.Top().Name() == name }

// Show has a view instead of all others but the overview, which lies below.
func (m *Model) Show(v View) {
	m.BackToLanes()
	m.Open(v)
}

// BackToLanes goes back to the overview.
func (m *Model) BackToLanes() { m.closeTo(1) }

// On is a binding's deed in the topmost view of a type.
func On[V View](do func(*Model, V)) func(*Model) {
	return func(m *Model) {
		for _, v := range slices.Backward(m.Stack) {
			if of, ok := v.(V); ok {
				do(m, of)
				return
			}
		}
	}
}
