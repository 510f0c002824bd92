package tui

import (
	"fmt"
	"strings"

	"omnivigil/internal/concern"
	"omnivigil/internal/engine"
)

// loop is the panel on a unit that sets itself off, or that others do in turn: by which
// files, what would cure it, and the keys that do.
type loop struct {
	open    bool
	problem string // why the cure could not be written
}

// looping returns the first unit whose loop the person has not decided about.
func (m *model) looping() *engine.Unit {
	for i := range m.snap.Units {
		if u := &m.snap.Units[i]; u.Loop != nil && !u.Loop.Noted {
			return u
		}
	}
	return nil
}

func (l *loop) show(m *model) {
	if u := m.chosen(); u == nil || u.Loop == nil {
		m.lanes.unit = m.looping().Name
	}
	l.open, l.problem = true, ""
}

// key handles a key while the panel is open.
func (l *loop) key(m *model, key string) {
	switch key {
	case "enter":
		m.request(engine.KeepIgnoring)
	case "w":
		if err := m.session.WriteCure(m.lanes.unit); err != nil {
			l.problem = err.Error()
			return
		}
	case "u":
		m.request(engine.ReactAgain)
	case "esc", "ctrl+c":
	default:
		return
	}
	l.open = false
}

// view draws the panel in place of the stream.
func (l *loop) view(m *model, height int) []string {
	rows := []string{""}
	add := func(format string, args ...any) { rows = append(rows, "  "+fmt.Sprintf(format, args...)) }
	u := m.chosen()
	if u == nil || u.Loop == nil {
		add("%s reacts to all its files", m.lanes.unit)
	} else {
		if u.Loop.Alone() {
			add("%s has run three times in a row for files that its own runs wrote:", u.Name)
		} else {
			add("this has gone round three times: %s. The last step was for:", u.Loop.Words())
		}
		files := u.Loop.Files
		for _, f := range files[:min(len(files), 8)] {
			add("  %s", m.palette.text.Render(f))
		}
		if more := len(files) - 8; more > 0 {
			add("  and %d more", more)
		}
		add("")
		add("%s does not react to them any more. This line in [%s.%s] says so for good:", u.Name, u.Kind, u.Name)
		add("  %s", m.palette.bright.Render(cureLine(u)))
		add("")
		for _, choice := range [][2]string{{"enter", "ignore them for this session"}, {"w", "write the line into omnivigil.toml"}, {"u", "undo: let it react to them again"}} {
			add("%s  %s", m.palette.text.Render(fmt.Sprintf("%5s", choice[0])), m.palette.dim.Render(choice[1]))
		}
	}
	for _, line := range strings.Split(l.problem, "\n") {
		add("%s", m.palette.broken.Render(line))
	}
	for i := range rows {
		rows[i] = fit(rows[i], m.width)
	}
	return pad(rows, height, m.width)
}

func cureLine(u *engine.Unit) string {
	cure := concern.Cure(u.Loop.Files)
	for i, p := range cure {
		cure[i] = fmt.Sprintf("%q", p)
	}
	return "ignore = [" + strings.Join(cure, ", ") + "]"
}

// notice says in one line that there is a loop, until the person has decided.
func (l *loop) notice(m *model) string {
	u := m.looping()
	if u == nil {
		return ""
	}
	text := fmt.Sprintf("%s writes %s itself, and ran again for it", u.Name, engine.List(u.Loop.Files))
	if !u.Loop.Alone() {
		text = u.Loop.Words()
	}
	return fit(m.palette.stale.Render("  loop stopped  "+text)+
		m.palette.dim.Render("  (l: what to do)"), m.width)
}
