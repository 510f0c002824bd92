package tui

import (
	"strings"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/engine"
)

// binding is one key's meaning. The table of bindings is the only place where
// keys stand: input, help, hints and tests all come from it.
type binding struct {
	keys  []string // as Bubble Tea names them; the first is the one shown
	name  string   // of the action, as one would look for it
	hint  string   // for the bottom line; empty: not shown there
	group string
	when  func(*model) bool // nil: always
	do    func(*model)
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
	onUnit    = "the chosen unit"
	onProject = "the project"
	onTime    = "time"
	onStream  = "the stream"
	onScreen  = "the screen"
)

var groups = []string{onUnit, onProject, onTime, onStream, onScreen}

// bindings follow one rule: small letters act on the chosen unit, signs and
// paging are for the stream, arrows move; anything for all holds ctrl.
var bindings = []binding{
	{keys: []string{"up", "k"}, name: "choose the unit above", hint: "choose", group: onUnit, do: func(m *model) { m.lanes.move(m, -1) }},
	{keys: []string{"down", "j"}, name: "choose the unit below", group: onUnit, do: func(m *model) { m.lanes.move(m, 1) }},
	{keys: []string{"!"}, name: "choose the next broken unit", hint: "next broken", group: onUnit,
		when: (*model).anyBroken, do: func(m *model) { m.lanes.nextBroken(m) }},
	{keys: []string{"f"}, name: "find units by name", group: onUnit, do: func(m *model) { m.find.show(m) }},
	{keys: []string{"r"}, name: "restart or rerun it; start it if it is stopped", hint: "restart", group: onUnit,
		do: func(m *model) { m.request(engine.RestartUnit) }},
	{keys: []string{"u"}, name: "restart or rerun it with its setup steps", group: onUnit,
		do: func(m *model) { m.request(engine.SetUpUnit) }},
	{keys: []string{"s"}, name: "stop it", hint: "stop", group: onUnit,
		when: func(m *model) bool { u := m.chosen(); return u != nil && u.Wanted },
		do:   func(m *model) { m.request(engine.StopUnit) }},
	{keys: []string{"p"}, name: "pause its reactions to changes, or resume them", hint: "pause", group: onUnit,
		do: func(m *model) { m.request(m.pauseOrResume()) }},
	{keys: []string{"b"}, name: "open its address in the browser", group: onUnit,
		when: func(m *model) bool { return len(m.uses[m.lanes.unit].Endpoints) > 0 },
		do:   func(m *model) { m.browse() }},
	{keys: []string{"y"}, name: "say why it is as it is, and what a save would set off", hint: "why", group: onUnit,
		do: func(m *model) { m.question.show(m) }},
	{keys: []string{"l"}, name: "decide about a loop: files that it writes and runs again for", hint: "loop", group: onUnit,
		when: func(m *model) bool { u := m.chosen(); return m.looping() != nil || u != nil && u.Loop != nil },
		do:   func(m *model) { m.loop.show(m) }},
	{keys: []string{"enter"}, name: "show only its output, or all again", hint: "only its output", group: onUnit,
		do: func(m *model) { m.stream.only(m) }},

	{keys: []string{"ctrl+r"}, name: "restart and rerun everything", group: onProject, do: func(m *model) { m.session.Request(engine.RestartAll, "") }},
	{keys: []string{"ctrl+p"}, name: "pause all reactions, or resume them", group: onProject,
		do: func(m *model) { m.session.Request(m.pauseOrResumeAll(), "") }},
	{keys: []string{"q", "ctrl+c"}, name: "quit: stop everything in order; again: at once", hint: "quit", group: onProject,
		do: func(m *model) { m.quit() }},

	{keys: []string{"left"}, name: "go back in time", hint: "time", group: onTime, do: func(m *model) { m.moveTime(-1) }},
	{keys: []string{"right"}, name: "go forward in time", group: onTime, do: func(m *model) { m.moveTime(1) }},
	{keys: []string{"["}, name: "go to the save before", group: onTime, do: func(m *model) { m.moveSave(-1) }},
	{keys: []string{"]"}, name: "go to the save after", group: onTime, do: func(m *model) { m.moveSave(1) }},
	{keys: []string{".", "esc", "end"}, name: "back to now", hint: "now", group: onTime,
		when: func(m *model) bool { return !m.atNow() }, do: func(m *model) { m.backToNow() }},
	{keys: []string{"+", "="}, name: "show less time, larger", hint: "zoom", group: onTime, do: func(m *model) { m.zoom(-1) }},
	{keys: []string{"-"}, name: "show more time, smaller", group: onTime, do: func(m *model) { m.zoom(1) }},

	{keys: []string{"pgup", "ctrl+u"}, name: "scroll back", group: onStream, do: func(m *model) { m.stream.page(m, -1) }},
	{keys: []string{"pgdown", "ctrl+d", "space"}, name: "scroll on", group: onStream, do: func(m *model) { m.stream.page(m, 1) }},
	{keys: []string{"home"}, name: "to the first line", group: onStream, do: func(m *model) { m.stream.first(m) }},
	{keys: []string{"\\"}, name: "cut long lines, or wrap them", group: onStream, do: func(m *model) { m.stream.wrap = !m.stream.wrap }},
	{keys: []string{"|"}, name: "give lanes half, a quarter or three quarters of the screen", group: onScreen,
		do: func(m *model) { m.lanes.share = (m.lanes.share + 1) % len(shares) }},

	{keys: []string{"ctrl+z"}, name: "suspend Omnivigil; the shell's fg brings it back", group: onScreen,
		do: func(m *model) { m.pending = tea.Suspend }},
	{keys: []string{"?"}, name: "show or close this help", hint: "help", group: onScreen, do: func(m *model) { m.help = !m.help }},
}

// lookUp returns the binding of a key, or nil.
func lookUp(key string) *binding {
	for i := range bindings {
		for _, k := range bindings[i].keys {
			if k == key {
				return &bindings[i]
			}
		}
	}
	return nil
}
