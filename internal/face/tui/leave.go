package tui

import (
	"context"
	"fmt"
	"os"
	"slices"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// leaving asks what becomes of the project when this screen is closed.
type leaving struct{}

func (*leaving) Name() string { return "leave" }

func (*leaving) Grabs(*view.Model) bool { return true }

func (*leaving) Update(*view.Model, tea.Msg) {}

// otherFaces are the project's faces except this one.
func otherFaces(m *view.Model) []api.Face {
	return slices.DeleteFunc(slices.Clone(m.Live.Faces), func(f api.Face) bool { return f.PID == os.Getpid() })
}

// isLast reports whether the project would end with this screen.
func isLast(m *view.Model) bool { return !m.Live.Background && len(otherFaces(m)) == 0 }

// quit asks what becomes of the project. While it is being stopped, it stops everything at once.
func quit(m *view.Model) {
	if m.Live.Quitting {
		m.Ask(api.EndNow)
		return
	}
	m.Open(&leaving{})
}

// keepRunning leaves the project running without a screen.
func keepRunning(m *view.Model) {
	m.Later(func(ctx context.Context) view.Then {
		_, err := m.Project.Do(ctx, api.Request{Action: api.LeaveRunning})
		return func() {
			if m.Close(); err != nil {
				m.Notice = err.Error()
				return
			}
			closeScreen(m)
		}
	})
}

// closeScreen closes the screen and leaves the project running.
func closeScreen(m *view.Model) { m.Run(tea.Quit) }

// endProject stops everything.
func endProject(m *view.Model) {
	m.Close()
	m.Ask(api.End)
}

func (*leaving) Draw(m *view.Model, width, height int) []string {
	return overview.UnderLanes(m, "leave", height, func(room int) []string {
		rows := []string{"", "  Leave " + m.Live.Project.Name + "? " + atWork(m)}
		if company := company(m); company != "" {
			for i, f := range otherFaces(m) {
				if i == 0 {
					company += ":"
				}
				company += fmt.Sprintf(" process %d", f.PID)
			}
			rows = []string{"", "  " + m.Live.Project.Name + " would keep running without this screen,", "  " + company}
		}
		rows = append(rows, "")
		for _, b := range m.BindingsOf("leave") {
			if b.When != nil && !b.When(m) || b.Keys[0] == "q" && !isLast(m) {
				continue
			}
			rows = append(
				rows,
				"  "+m.Palette.Text.Render(fmt.Sprintf("%5s", b.Keys[0]))+"  "+m.Palette.Dim.Render(b.Name),
			)
		}
		for i := range rows {
			rows[i] = cells.Fit(rows[i], width)
		}
		return view.Pad(rows, room, width)
	})
}

// atWork tells how many units a stop would end.
func atWork(m *view.Model) string {
	n := 0
	for _, u := range m.Live.Units {
		if u.Run.Number > 0 && u.Run.EndedAt.IsZero() {
			n++
		}
	}
	if n == 0 {
		return "Nothing is running."
	}
	return format.Count(n, "unit") + " running."
}

// leaveAgain answers the key that has asked the question.
func leaveAgain(m *view.Model) {
	if isLast(m) {
		endProject(m)
		return
	}
	m.Close()
}

func isNotLast(m *view.Model) bool { return !isLast(m) }

// leaveKeys are those of the question.
var leaveKeys = []view.Binding{
	{In: "leave", Keys: []string{"enter"}, Name: "close only this screen", Hint: "close the screen",
		Group: view.GroupLeave, When: isNotLast, Do: closeScreen},
	{In: "leave", Keys: []string{"s"}, Name: "stop everything, in order", Hint: "stop everything",
		Group: view.GroupLeave,
		Do:    endProject},
	{In: "leave", Keys: []string{"enter"}, Name: "keep it running without a screen", Hint: "keep it running",
		Group: view.GroupLeave, When: isLast, Do: keepRunning},
	{In: "leave", Keys: []string{"q", "ctrl+c"}, Name: "a second press: stop everything",
		Group: view.GroupLeave, Do: leaveAgain},
	{In: "leave", Keys: []string{"esc"}, Name: "stay", Hint: "stay", Group: view.GroupLeave,
		Do: (*view.Model).Close},
}
