package panels

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// loopPanel shows a loop: a unit that sets itself off, or units that set off each other. It shows the files, the fix
// and the keys for it.
type loopPanel struct {
	problem string // why the fix could not be written
}

// Looping returns the first unit whose loop the user has not decided about.
func Looping(m *view.Model) *api.Unit {
	for _, u := range m.Snap.Units {
		if u.Loop != nil && !u.Loop.Noted {
			return u
		}
	}
	return nil
}

func ShowLoop(m *view.Model) {
	if u := m.SelectedUnit(); u == nil || u.Loop == nil {
		m.Selected = Looping(m).Name
	}
	m.Open(&loopPanel{})
}

func (*loopPanel) Name() string { return "loop" }

func (*loopPanel) Grabs(*view.Model) bool { return true }

func (*loopPanel) Update(*view.Model, tea.Msg) {}

// decide requests an action and closes the panel.
func decide(a api.Action) func(*view.Model) {
	return func(m *view.Model) {
		m.AskUnit(a)
		m.Close()
	}
}

// writeCure writes the fix into the settings and closes the panel; on failure the panel shows why.
func (l *loopPanel) writeCure(m *view.Model) {
	unit := m.Selected
	m.Act(func(ctx context.Context) view.Then {
		_, err := m.Project.Do(ctx, api.Request{Action: api.WriteCure, Units: []string{unit}})
		return func() {
			if err != nil {
				l.problem = err.Error()
			} else if m.Top() == view.View(l) {
				m.Close()
			}
		}
	})
}

// Draw draws the panel instead of the stream.
func (l *loopPanel) Draw(m *view.Model, width, height int) []string {
	return draw(m, "loop", width, height, func(int) []string { return l.rows(m) })
}

func (l *loopPanel) rows(m *view.Model) []string {
	rows := []string{""}
	add := func(format string, args ...any) { rows = append(rows, "  "+fmt.Sprintf(format, args...)) }
	u := m.SelectedUnit()
	if u == nil || u.Loop == nil {
		add("%s reacts to all its files", m.Selected)
	} else {
		if u.Loop.Alone() {
			add("%s has run three times in a row because of files that its own runs wrote:", u.Name)
		} else {
			add("this loop has run three times: %s. The last step was because of:", u.Loop.Text)
		}
		files := u.Loop.Files
		for _, f := range files[:min(len(files), 8)] {
			add("  %s", m.Palette.Text.Render(f))
		}
		if more := len(files) - 8; more > 0 {
			add("  and %d more", more)
		}
		add("")
		add("%s no longer reacts to them. To make this permanent, add to [%s.%s]:", u.Name, u.Kind, u.Name)
		add("  %s", m.Palette.Bright.Render(u.Loop.Cure))
		add("")
		rows = append(rows, keyRows(m, "loop", view.GroupLoop)...)
	}
	for _, line := range strings.Split(l.problem, "\n") {
		add("%s", m.Palette.Broken.Render(line))
	}
	return rows
}

// LoopNotice tells in one line that there is a loop.
func LoopNotice(m *view.Model, u *api.Unit) string {
	text := fmt.Sprintf("%s writes %s itself, and ran again because of it", u.Name, format.List(u.Loop.Files))
	if !u.Loop.Alone() {
		text = u.Loop.Text
	}
	return cells.Fit(m.Palette.Stale.Render("  loop stopped  "+text)+m.Palette.Dim.Render("  (l: what to do)"), m.Width)
}

// LoopKeys are those of the panel.
var LoopKeys = []view.Binding{
	{In: "loop", Keys: []string{"enter"}, Name: "ignore these files for this session", Group: view.GroupLoop,
		Do: decide(api.KeepIgnoring)},
	{In: "loop", Keys: []string{"w"}, Name: "write the fix into omnivigil.toml", Group: view.GroupLoop,
		Do: view.On(func(m *view.Model, l *loopPanel) { l.writeCure(m) })},
	{In: "loop", Keys: []string{"backspace"}, Name: "undo: react to these files again", Group: view.GroupLoop,
		Do: decide(api.ReactAgain)},
	{In: "loop", Keys: []string{"esc", "q", "ctrl+c"}, Name: "close", Hint: "close", Group: view.GroupField,
		Do: (*view.Model).Close},
}
