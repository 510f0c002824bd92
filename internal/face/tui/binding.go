package tui

import (
	"slices"
	"strings"
)

// binding is one key's meaning. The table of bindings is the only place where
// keys stand: input, help, hints and tests all come from it.
type binding struct {
	in     string   // the name of the view that it is for; empty: the overview, and what lies on it
	keys   []string // as Bubble Tea names them; the first is the one shown
	action string   // under which a user's own file gives it other keys; empty: it keeps its own
	name   string   // what it does, as one would look for it
	hint   string   // for the bottom line; empty: not shown there
	group  string
	when   func(*model) bool // nil: always
	first  func(*model) bool // when its hint is shown, and then before others; nil: always, after those
	do     func(*model)
}

// shown is how a key is written on the screen.
func (b binding) shown() string {
	nice := map[string]string{
		"up": "↑", "down": "↓", "left": "←", "right": "→", "enter": "enter", "space": "space",
		"pgup": "page up", "pgdown": "page down", "esc": "esc",
	}
	parts := make([]string, len(b.keys))
	for i, k := range b.keys {
		parts[i] = k
		if n, ok := nice[k]; ok {
			parts[i] = n
		}
	}
	return strings.Join(parts, " ")
}

// Groups of bindings, in the order of the help.
const (
	onUnit    = "the selected unit"
	onProject = "the project"
	onTime    = "time"
	onStream  = "the stream"
	onResults = "tests and findings"
	onView    = "views"
	onScreen  = "the screen"
)

var groups = []string{onUnit, onView, onProject, onTime, onStream, onResults, onScreen}

// Groups of bindings that single views show themselves.
const (
	onLoop   = "a loop"
	onDoubt  = "doubts"
	onField  = "a field"
	onLeave  = "leaving"
	onPicked = "chosen lines"
	onHand   = "a terminal"
	onTest   = "tests"
	onFound  = "findings"
	onRipple = "ripples"
	onWhole  = "a unit whole"
	onMap    = "the map"
	onChart  = "charts"
)

// bindingsOf returns the bindings of the view with that name.
func (m *model) bindingsOf(view string) []*binding {
	var of []*binding
	for i := range m.table {
		if m.table[i].in == view {
			of = append(of, &m.table[i])
		}
	}
	return of
}

// lookUp returns the binding of a key in a view that has a meaning now, or nil.
func lookUp(m *model, view, key string) *binding {
	for _, b := range m.bindingsOf(view) {
		if slices.Contains(b.keys, key) && (b.when == nil || b.when(m)) {
			return b
		}
	}
	return nil
}

// keyOf is the key that an action has, as it is written on the screen.
func (m *model) keyOf(action string) string {
	for i := range m.table {
		if b := &m.table[i]; b.action == action {
			return strings.Split(b.shown(), " ")[0]
		}
	}
	return ""
}
