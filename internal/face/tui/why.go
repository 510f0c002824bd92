package tui

import (
	"context"
	"fmt"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
)

// question is the panel that answers why: why the selected unit is as it is, and
// what a save of some path would set off. Keys act on the unit as they do elsewhere,
// until the field is entered.
type question struct {
	input  textinput.Model
	answer []string
	last   lastWords
}

// lastWords are the lines of a run that are most likely to say why it ended.
type lastWords struct {
	unit  string
	run   int
	lines []string
}

func askWhy(m *model) {
	in := textinput.New()
	in.Prompt = "if I save  "
	in.Placeholder = "enter, then a path"
	in.SetWidth(max(m.width-20, 10))
	m.open(&question{input: in})
}

func (*question) name() string { return "why" }

func (q *question) grabs(*model) bool { return q.input.Focused() }

func (q *question) update(m *model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		handleMouse(m, msg)
	default:
		var cmd tea.Cmd
		q.input, cmd = q.input.Update(msg)
		m.run(cmd)
	}
}

func typing(m *model) bool    { return m.top().grabs(m) }
func notTyping(m *model) bool { return !typing(m) }

// enter has the field take the keys.
func (q *question) enter(m *model) { m.run(q.input.Focus()) }

// submit asks what the path in the field would set off.
func (q *question) submit(m *model) {
	q.answer = nil
	path := strings.TrimSpace(q.input.Value())
	if path == "" {
		return
	}
	m.later(func(ctx context.Context) then {
		answer, err := m.project.Why(ctx, path)
		if err != nil {
			return m.report(err)
		}
		return func() { q.answer = answer.Text }
	})
}

// ask asks for the last lines of a unit that is broken, unless they are there.
func (q *question) ask(m *model) {
	u := m.selectedUnit()
	if u == nil || !u.State.Broken() || q.last.unit == u.Name && q.last.run == u.Run.Number {
		return
	}
	const most = 6
	q.last = lastWords{u.Name, u.Run.Number, nil}
	last := q.last
	m.later(func(ctx context.Context) then {
		page, err := m.project.Lines(ctx, api.LineQuery{Unit: last.unit, Run: last.run, Why: true, Count: most})
		if err != nil {
			return m.report(err)
		}
		for _, l := range page.Lines {
			last.lines = append(last.lines, ansi.Strip(l.Text))
		}
		return func() { q.last = last }
	})
}

// draw draws the panel instead of the stream.
func (q *question) draw(m *model, width, height int) []string {
	return underLanes(m, "why", height, func(room int) []string {
		rows := append([]string{""}, q.unitRows(m)...)
		rows = append(rows, "", "  "+q.input.View(), "")
		for _, line := range q.answer {
			rows = append(rows, "  "+m.palette.Text.Render(line))
		}
		for i := range rows {
			rows[i] = cells.Fit(rows[i], width)
		}
		return pad(rows, room, width)
	})
}

func (q *question) unitRows(m *model) []string {
	u := m.selectedUnit()
	if u == nil {
		return nil
	}
	var rows []string
	for _, line := range m.snap.Account(u) {
		rows = append(rows, "  "+line)
	}
	if use := m.snap.Uses[u.Name]; use.Memory > 0 {
		rows = append(rows, fmt.Sprintf("  it takes %.1f %% of a core and %s", 100*use.CPU, memory(use)))
	}
	if u.State.Broken() && q.last.unit == u.Name && len(q.last.lines) > 0 {
		rows = append(rows, "  its last lines:")
		for _, l := range q.last.lines {
			rows = append(rows, "    "+m.palette.Dim.Render(l))
		}
	}
	return rows
}
