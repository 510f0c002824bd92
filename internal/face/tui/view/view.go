// Package view is what a view of the full screen is, and what it gets: the model that all views share, the bindings of
// keys, and building blocks such as fields, lists in parts, and rules with a title. It contains no view. Start reading
// at View, Model and Binding.
package view

import (
	"slices"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/face/draw"
)

// View is one of the things that the screen can show. It draws the model into rows, and holds only its own state
// (cursor, scroll position, query). Views form a stack; the top one is drawn and gets the keys.
type View interface {
	// Name is the name of the view in its bindings.
	Name() string
	// Draw returns height rows of width cells.
	Draw(m *Model, width, height int) []string
	// Update handles a message for which there is no binding.
	Update(m *Model, msg tea.Msg)
	// Grabs reports whether it gets all keys, as when the user types.
	Grabs(m *Model) bool
}

// Taker is a view that may take keys without a binding as input: text for a field, or keys for a program.
type Taker interface{ TakesKeys(m *Model) bool }

// closer is a view that releases something when it is closed. Closed is called once, when the view leaves the stack.
type closer interface{ Closed(m *Model) }

// Asker is a view that fetches what it shows. Ask is called after each message, and requests only what is missing.
type Asker interface{ Ask(m *Model) }

// Framer is a view that sets more of the terminal than its rows: the cursor, the mouse, reports of focus.
type Framer interface {
	Frame(m *Model, frame *tea.View)
}

// Drawable is a view that can be written as a drawing.
type Drawable interface {
	// Drawing returns a name for the drawing and the function that makes it, which may run in the background. The
	// function is nil if there is nothing to draw.
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

// Show closes all views except the overview, and opens another.
func (m *Model) Show(v View) {
	m.BackToLanes()
	m.Open(v)
}

// BackToLanes closes all views except the overview.
func (m *Model) BackToLanes() { m.closeTo(1) }

// On returns what a binding does in the topmost view of a type.
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
