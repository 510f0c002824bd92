package view

import (
	"slices"
	"strings"
)

// Binding is the meaning of a key. Input, help, hints and tests all come from the bindings.
type Binding struct {
	In     string   // the name of the view that it is for; empty: the overview, and the views over it
	Keys   []string // as Bubble Tea names them; the first is the one shown
	Action string   // its name in the personal file, which can give it other keys; empty: its keys are fixed
	Name   string   // what it does, for the help and the command line
	Hint   string   // for the bottom line; empty: not shown there
	Group  string
	When   func(*Model) bool // nil: always
	Unless string            // why it does nothing now, where When is false; the bottom line says it
	First  func(*Model) bool // its hint is shown before all others while this is true; nil: after them, always
	Do     func(*Model)
}

// Shown is the keys as they are written on the screen.
func (b Binding) Shown() string {
	nice := map[string]string{
		"up": "↑", "down": "↓", "left": "←", "right": "→", "enter": "enter", "space": "space",
		"pgup": "page up", "pgdown": "page down", "esc": "esc",
	}
	parts := make([]string, len(b.Keys))
	for i, k := range b.Keys {
		parts[i] = k
		if n, ok := nice[k]; ok {
			parts[i] = n
		}
	}
	return strings.Join(parts, " ")
}

// Groups of bindings, in the order of the help.
const (
	GroupUnit    = "the selected unit"
	GroupProject = "the project"
	GroupTime    = "time"
	GroupStream  = "the stream"
	GroupResults = "tests and findings"
	GroupView    = "views"
	GroupScreen  = "the screen"
)

var Groups = []string{GroupUnit, GroupView, GroupProject, GroupTime, GroupStream, GroupResults, GroupScreen}

// Groups of the bindings of single views.
const (
	GroupLoop     = "a loop"
	GroupDoubts   = "doubts"
	GroupObserved = "what was observed"
	GroupField    = "a field"
	GroupWhy      = "an explanation"
	GroupLeave    = "leaving"
	GroupLines    = "chosen lines"
	GroupTerminal = "a terminal"
	GroupTests    = "tests"
	GroupFindings = "findings"
	GroupRipples  = "ripples"
	GroupUnitView = "a unit whole"
	GroupMap      = "the map"
	GroupCharts   = "charts"
)

// BindingsOf returns the bindings of the view with that name.
func (m *Model) BindingsOf(view string) []*Binding {
	var of []*Binding
	for i := range m.Table {
		if m.Table[i].In == view {
			of = append(of, &m.Table[i])
		}
	}
	return of
}

// LookUp returns the binding that a key has in a view now, or nil.
func LookUp(m *Model, view, key string) *Binding {
	for _, b := range m.BindingsOf(view) {
		if slices.Contains(b.Keys, key) && (b.When == nil || b.When(m)) {
			return b
		}
	}
	return nil
}

// WhyNot tells why a key does nothing now in one of these views, given from the top. Empty: the key has no meaning
// there.
func WhyNot(m *Model, key string, views ...string) string {
	for _, name := range views {
		for _, b := range m.BindingsOf(name) {
			if slices.Contains(b.Keys, key) {
				return b.Unless
			}
		}
	}
	return ""
}

// KeyOf is the first key of an action, as it is written on the screen.
func (m *Model) KeyOf(action string) string {
	for i := range m.Table {
		if b := &m.Table[i]; b.Action == action {
			return strings.Split(b.Shown(), " ")[0]
		}
	}
	return ""
}
