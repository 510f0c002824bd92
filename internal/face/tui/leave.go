package tui

import (
	"fmt"
	"os"
	"slices"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
)

// leaving is the question whether to stop the project or only to close this screen, where
// the project would keep running without it.
type leaving struct{}

func (*leaving) name() string { return "leave" }

func (*leaving) grabs(*model) bool { return true }

func (*leaving) update(*model, tea.Msg) {}

// otherFaces are the project's faces but this one.
func otherFaces(m *model) []api.Face {
	return slices.DeleteFunc(slices.Clone(m.snap.Faces), func(f api.Face) bool { return f.PID == os.Getpid() })
}

// quit stops everything in order; asked again, at once. Where others look at the project,
// or it runs in the background, it asks first.
func quit(m *model) {
	switch {
	case m.snap.Quitting:
		m.ask(api.EndNow)
	case m.snap.Background || len(otherFaces(m)) > 0:
		m.open(&leaving{})
	default:
		m.ask(api.End)
	}
}

// closeScreen leaves the project as it is.
func closeScreen(m *model) { m.run(tea.Quit) }

// endProject stops everything.
func endProject(m *model) {
	m.close()
	m.ask(api.End)
}

func (*leaving) draw(m *model, width, height int) []string {
	return underLanes(m, "leave", height, func(room int) []string {
		rows := []string{"", "  " + m.snap.Project.Name + " would end with this screen, which is its only one"}
		if company := company(m); company != "" {
			for i, f := range otherFaces(m) {
				if i == 0 {
					company += ":"
				}
				company += fmt.Sprintf(" process %d", f.PID)
			}
			rows = []string{"", "  " + m.snap.Project.Name + " would keep running without this screen,", "  " + company}
		}
		rows = append(rows, "")
		for _, b := range m.bindingsOf("leave") {
			rows = append(
				rows,
				"  "+m.palette.Text.Render(fmt.Sprintf("%5s", b.keys[0]))+"  "+m.palette.Dim.Render(b.name),
			)
		}
		for i := range rows {
			rows[i] = cells.Fit(rows[i], width)
		}
		return pad(rows, room, width)
	})
}
