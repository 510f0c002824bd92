// Package panels has the panels that replace the stream below the lanes: why a unit is in its state, a loop, and the
// doubts about the verdict. Start reading at question, loopPanel and doubtsPanel.
package panels

import (
	"context"
	"fmt"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/escape"
)

// question is the panel that explains the state of the selected unit, and what a save of a path would set off. Keys act
// on the unit as elsewhere, until the user enters the field.
type question struct {
	input  textinput.Model
	answer []string
	last   lastWords
}

// lastWords are the lines of a run that most likely tell why it ended.
type lastWords struct {
	unit  string
	run   int
	lines []string
}

func AskWhy(m *view.Model) {
	in := textinput.New()
	in.Prompt = "if I save  "
	in.Placeholder = "enter, then a path"
	in.SetWidth(max(m.Width-20, 10))
	m.Open(&question{input: in})
}

func (*question) Name() string { return "why" }

func (q *question) Grabs(*view.Model) bool { return q.input.Focused() }

// TakesKeys implements view.Taker.
func (q *question) TakesKeys(*view.Model) bool { return q.input.Focused() }

func (q *question) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		overview.HandleMouse(m, msg)
	default:
		var cmd tea.Cmd
		q.input, cmd = q.input.Update(msg)
		m.Run(cmd)
	}
}

func typing(m *view.Model) bool    { return m.Top().Grabs(m) }
func notTyping(m *view.Model) bool { return !typing(m) }

// enter gives the keys to the field.
func (q *question) enter(m *view.Model) { m.Run(q.input.Focus()) }

// submit asks what a save of the path in the field would set off.
func (q *question) submit(m *view.Model) {
	q.answer = nil
	path := strings.TrimSpace(q.input.Value())
	if path == "" {
		return
	}
	m.Later(func(ctx context.Context) view.Then {
		answer, err := m.Project.Why(ctx, path)
		if err != nil {
			return m.Report(err)
		}
		return func() { q.answer = answer.Text }
	})
}

// Ask fetches the last lines of a broken unit.
func (q *question) Ask(m *view.Model) {
	u := m.SelectedUnit()
	if u == nil || !u.State.Broken() || q.last.unit == u.Name && q.last.run == u.Run.Number {
		return
	}
	const most = 6
	q.last = lastWords{u.Name, u.Run.Number, nil}
	last := q.last
	m.Later(func(ctx context.Context) view.Then {
		page, err := m.Project.Lines(ctx, api.LineQuery{Unit: last.unit, Run: last.run, Why: true, Count: most})
		if err != nil {
			return m.Report(err)
		}
		for _, l := range page.Lines {
			last.lines = append(last.lines, escape.Strip(l.Text))
		}
		return func() { q.last = last }
	})
}

// Draw draws the panel instead of the stream.
func (q *question) Draw(m *view.Model, width, height int) []string {
	return overview.UnderLanes(m, "why", height, func(room int) []string {
		rows := append([]string{""}, q.unitRows(m)...)
		rows = append(rows, "", "  "+q.input.View(), "")
		for _, line := range q.answer {
			rows = append(rows, "  "+m.Palette.Text.Render(line))
		}
		for i := range rows {
			rows[i] = cells.Fit(rows[i], width)
		}
		return view.Pad(rows, room, width)
	})
}

func (q *question) unitRows(m *view.Model) []string {
	u := m.SelectedUnit()
	if u == nil {
		return nil
	}
	var rows []string
	for _, line := range m.Snap.Account(u) {
		rows = append(rows, "  "+line)
	}
	if use := m.Snap.Uses[u.Name]; use.Memory > 0 {
		rows = append(rows, fmt.Sprintf("  it uses %.1f %% of a core and %s", 100*use.CPU, lanes.Memory(use)))
	}
	if u.State.Broken() && q.last.unit == u.Name && len(q.last.lines) > 0 {
		rows = append(rows, "  last lines:")
		for _, l := range q.last.lines {
			rows = append(rows, "    "+m.Palette.Dim.Render(l))
		}
	}
	return rows
}

// WhyKeys are those of the panel.
var WhyKeys = []view.Binding{
	{In: "why", Keys: []string{"enter"}, Name: "ask", Hint: "ask", Group: view.GroupField, When: typing,
		Do: view.On(func(m *view.Model, q *question) { q.submit(m) })},
	{In: "why", Keys: []string{"esc", "ctrl+c"}, Name: "leave the field", Hint: "leave the field",
		Group: view.GroupField,
		When:  typing,
		Do:    view.On(func(_ *view.Model, q *question) { q.input.Blur() })},
	{In: "why", Keys: []string{"enter"}, Name: "type a path", Hint: "type a path", Group: view.GroupField,
		When: notTyping,
		Do:   view.On(func(m *view.Model, q *question) { q.enter(m) })},
	{In: "why", Keys: []string{"esc", "q", "y"}, Name: "close", Hint: "close", Group: view.GroupField, When: notTyping,
		Do: (*view.Model).Close},
}
