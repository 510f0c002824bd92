package panels

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// projectsPanel lists the user's other running projects, to switch to one.
type projectsPanel struct {
	at int // the selected one
}

func (*projectsPanel) Name() string { return "projects" }

func (*projectsPanel) Grabs(*view.Model) bool { return true }

func (*projectsPanel) Update(*view.Model, tea.Msg) {}

// ShowProjects lists the other projects.
func ShowProjects(m *view.Model) {
	m.Open(&projectsPanel{})
	if m.ListOthers == nil {
		return
	}
	m.Later(func(ctx context.Context) view.Then {
		others := m.ListOthers(ctx)
		return func() { m.Others = others }
	})
}

// Draw draws the panel instead of the stream.
func (p *projectsPanel) Draw(m *view.Model, width, height int) []string {
	return draw(m, "projects", width, height, func(room int) []string { return p.rows(m, room) })
}

func (p *projectsPanel) rows(m *view.Model, room int) []string {
	if len(m.Others) == 0 {
		return []string{"", "  no other project of yours is running"}
	}
	p.at = min(p.at, len(m.Others)-1)
	name := 0
	for _, o := range m.Others {
		name = max(name, len([]rune(o.Name)))
	}
	const linesOfEach = 2
	fit := max((room-5)/linesOfEach, 1)
	first := view.Windowed(p.at, len(m.Others), min(fit, len(m.Others)))
	rows := []string{""}
	for i := first; i < min(first+fit, len(m.Others)); i++ {
		o := m.Others[i]
		mark := "  "
		if i == p.at {
			mark = m.Palette.Bright.Render("▸ ")
		}
		title := m.Palette.Text.Render(fmt.Sprintf("%-*s", name, o.Name))
		word := m.Palette.VerdictStyle(o.Word).Render(fmt.Sprintf("%-8s", strings.ToUpper(string(o.Word))))
		rows = append(rows,
			mark+title+"  "+word+"  "+o.Text,
			"  "+strings.Repeat(" ", name)+"  "+m.Palette.Dim.Render(o.Root+", since "+format.Moment(o.Since, m.Now)),
		)
	}
	return append(append(rows, ""), keyRows(m, "projects", view.GroupProject)...)
}

// selectedOther returns the selected project; nil: there is none.
func selectedOther(m *view.Model) *view.Other {
	p, is := m.Top().(*projectsPanel)
	if !is || p.at >= len(m.Others) {
		return nil
	}
	return &m.Others[p.at]
}

func moveProject(m *view.Model, by int) {
	if p, is := m.Top().(*projectsPanel); is {
		p.at = max(min(p.at+by, len(m.Others)-1), 0)
	}
}

// switchProject leaves this project running, and shows the selected one.
func switchProject(m *view.Model) {
	other := *selectedOther(m)
	m.Later(func(ctx context.Context) view.Then {
		_, err := m.Project.Do(ctx, api.Request{Action: api.LeaveRunning})
		return func() {
			if err != nil {
				m.Notice = err.Error()
				return
			}
			m.SwitchTo = other.File
			m.Run(tea.Quit)
		}
	})
}

// ProjectKeys are those of the panel.
var ProjectKeys = []view.Binding{
	{In: "projects", Keys: []string{"up"}, Name: "previous project", Hint: "select", Group: view.GroupField,
		When: func(m *view.Model) bool { return len(m.Others) > 1 }, Unless: "there is no other one to select",
		Do: func(m *view.Model) { moveProject(m, -1) }},
	{In: "projects", Keys: []string{"down"}, Name: "next project", Group: view.GroupField,
		When: func(m *view.Model) bool { return len(m.Others) > 1 }, Unless: "there is no other one to select",
		Do: func(m *view.Model) { moveProject(m, 1) }},
	{In: "projects", Keys: []string{"enter"}, Name: "show it; this project keeps running",
		Hint: "show it", Group: view.GroupProject,
		When: func(m *view.Model) bool { return selectedOther(m) != nil }, Unless: "no other project is running",
		Do: switchProject},
	{In: "projects", Keys: []string{"esc", "q", "P", "ctrl+c"}, Name: "close", Hint: "close", Group: view.GroupField,
		Do: (*view.Model).Close},
}
