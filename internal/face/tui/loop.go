package tui

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/text/format"
)

// loopPanel is the panel on a unit that sets itself off, or that others do in turn: by which
// files, what would cure it, and the keys that do.
type loopPanel struct {
	problem string // why the cure could not be written
}

// looping returns the first unit whose loop the user has not decided about.
func looping(m *model) *api.Unit {
	for _, u := range m.snap.Units {
		if u.Loop != nil && !u.Loop.Noted {
			return u
		}
	}
	return nil
}

func showLoop(m *model) {
	if u := m.selectedUnit(); u == nil || u.Loop == nil {
		m.selected = looping(m).Name
	}
	m.open(&loopPanel{})
}

func (*loopPanel) name() string { return "loop" }

func (*loopPanel) grabs(*model) bool { return true }

func (*loopPanel) update(*model, tea.Msg) {}

// decide asks for something and closes the panel.
func decide(a api.Action) func(*model) {
	return func(m *model) {
		m.request(a)
		m.close()
	}
}

// writeCure writes the cure into the settings and closes the panel; on failure, the panel says why.
func (l *loopPanel) writeCure(m *model) {
	unit := m.selected
	m.later(func(ctx context.Context) then {
		_, err := m.project.Do(ctx, api.Request{Action: api.WriteCure, Units: []string{unit}})
		return func() {
			if err != nil {
				l.problem = err.Error()
			} else if m.top() == view(l) {
				m.close()
			}
		}
	})
}

// draw draws the panel instead of the stream.
func (l *loopPanel) draw(m *model, width, height int) []string {
	return underLanes(m, "loop", height, func(room int) []string {
		rows := l.rows(m)
		for i := range rows {
			rows[i] = cells.Fit(rows[i], width)
		}
		return pad(rows, room, width)
	})
}

func (l *loopPanel) rows(m *model) []string {
	rows := []string{""}
	add := func(format string, args ...any) { rows = append(rows, "  "+fmt.Sprintf(format, args...)) }
	u := m.selectedUnit()
	if u == nil || u.Loop == nil {
		add("%s reacts to all its files", m.selected)
	} else {
		if u.Loop.Alone() {
			add("%s has run three times in a row for files that its own runs wrote:", u.Name)
		} else {
			add("this has gone round three times: %s. The last step was for:", u.Loop.Text)
		}
		files := u.Loop.Files
		for _, f := range files[:min(len(files), 8)] {
			add("  %s", m.palette.Text.Render(f))
		}
		if more := len(files) - 8; more > 0 {
			add("  and %d more", more)
		}
		add("")
		add("%s does not react to them any more. This line in [%s.%s] says so for good:", u.Name, u.Kind, u.Name)
		add("  %s", m.palette.Bright.Render(u.Loop.Cure))
		add("")
		for _, b := range m.bindingsOf("loop") {
			if b.group == onLoop {
				add("%s  %s", m.palette.Text.Render(fmt.Sprintf("%5s", b.keys[0])), m.palette.Dim.Render(b.name))
			}
		}
	}
	for _, line := range strings.Split(l.problem, "\n") {
		add("%s", m.palette.Broken.Render(line))
	}
	return rows
}

// loopNotice says in one line that there is a loop, until the user has decided.
func loopNotice(m *model, u *api.Unit) string {
	text := fmt.Sprintf("%s writes %s itself, and ran again for it", u.Name, format.List(u.Loop.Files))
	if !u.Loop.Alone() {
		text = u.Loop.Text
	}
	return cells.Fit(m.palette.Stale.Render("  loop stopped  "+text)+m.palette.Dim.Render("  (l: what to do)"), m.width)
}
