package tui

import (
	"fmt"
	"os"
	"slices"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
)

// leaving asks whether to stop the project or only to close this screen, if the project would keep running without it.
type leaving struct{}

func (*leaving) Name() string { return "leave" }

func (*leaving) Grabs(*view.Model) bool { return true }

func (*leaving) Update(*view.Model, tea.Msg) {}

// otherFaces are the project's faces except this one.
func otherFaces(m *view.Model) []api.Face {
	return slices.DeleteFunc(slices.Clone(m.Snap.Faces), func(f api.Face) bool { return f.PID == os.Getpid() })
}

// quit stops everything in order, and the second time at once. It asks first if other faces are attached or the project
// runs in the background.
func quit(m *view.Model) {
	switch {
	case m.Snap.Quitting:
		m.Ask(api.EndNow)
	case m.Snap.Background || len(otherFaces(m)) > 0:
		m.Open(&leaving{})
	default:
		m.Ask(api.End)
	}
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
		rows := []string{"", "  " + m.Snap.Project.Name + " would end with this screen, the only one"}
		if company := company(m); company != "" {
			for i, f := range otherFaces(m) {
				if i == 0 {
					company += ":"
				}
				company += fmt.Sprintf(" process %d", f.PID)
			}
			rows = []string{"", "  " + m.Snap.Project.Name + " would keep running without this screen,", "  " + company}
		}
		rows = append(rows, "")
		for _, b := range m.BindingsOf("leave") {
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

// leaveKeys are those of the question.
var leaveKeys = []view.Binding{
	{In: "leave", Keys: []string{"c"}, Name: "close only this screen", Hint: "close the screen", Group: view.GroupLeave,
		Do: closeScreen},
	{In: "leave", Keys: []string{"s"}, Name: "stop the project, in order", Hint: "stop the project",
		Group: view.GroupLeave,
		Do:    endProject},
	{In: "leave", Keys: []string{"esc", "q", "ctrl+c"}, Name: "go back", Hint: "back", Group: view.GroupLeave,
		Do: (*view.Model).Close},
}
