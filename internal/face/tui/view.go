package tui

import (
	"slices"

	tea "charm.land/bubbletea/v2"
)

// view is one of the things that the screen can show. It turns what the model shares and a
// size into rows, and holds only what is its own. Views lie on a stack; the top one is
// drawn and has the keys.
type view interface {
	// name is under which its bindings are in the table of keys.
	name() string
	// draw returns height rows of width cells.
	draw(m *model, width, height int) []string
	// update takes a message that no binding is for.
	update(m *model, msg tea.Msg)
	// grabs reports whether all keys are for it alone, as while one types.
	grabs(m *model) bool
}

// closer is a view that has something to end. It is told once when it leaves the stack.
type closer interface{ closed(m *model) }

// asker is a view that asks the project for what it shows. It is let ask after each message, and
// keeps itself from asking for what it has.
type asker interface{ ask(m *model) }

func (m *model) top() view { return m.stack[len(m.stack)-1] }

func (m *model) open(v view) { m.stack = append(m.stack, v) }

// close closes the top view; the first one stays.
func (m *model) close() { m.closeTo(max(len(m.stack)-1, 1)) }

// closeTo closes all views above the lowest n.
func (m *model) closeTo(n int) {
	above := m.stack[n:]
	m.stack = m.stack[:n:n]
	for _, v := range slices.Backward(above) {
		if c, ok := v.(closer); ok {
			c.closed(m)
		}
	}
}

// isOnStack reports whether a view has not been closed.
func (m *model) isOnStack(v view) bool { return slices.Contains(m.stack, v) }

// isOpen reports whether the top view has that name.
func (m *model) isOpen(name string) bool { return m.top().name() == name }

// show has a view instead of all others but the overview, which lies below.
func (m *model) show(v view) {
	m.lanesOnly()
	m.open(v)
}

// lanesOnly goes back to the overview.
func (m *model) lanesOnly() { m.closeTo(1) }

// on is a binding's deed in the topmost view of a type.
func on[V view](do func(*model, V)) func(*model) {
	return func(m *model) {
		for _, v := range slices.Backward(m.stack) {
			if of, ok := v.(V); ok {
				do(m, of)
				return
			}
		}
	}
}
