package tui

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/engine"
	"omnivigil/internal/logbook"
)

// question is the panel that answers why: why the chosen unit is as it is, and
// what a save of some path would set off.
type question struct {
	open   bool
	input  textinput.Model
	answer []string
}

func newQuestion() question {
	in := textinput.New()
	in.Prompt = "what if I save  "
	in.Placeholder = "a path, then enter"
	return question{input: in}
}

// show opens the panel; its input takes the keys until it is closed.
func (q *question) show(m *model) {
	q.open = true
	q.input.SetWidth(max(m.width-20, 10))
	m.pending = q.input.Focus()
}

// key handles a key while the panel is open.
func (q *question) key(m *model, msg tea.KeyPressMsg) tea.Cmd {
	switch msg.String() {
	case "esc", "ctrl+c":
		q.open = false
		return nil
	case "up":
		m.lanes.move(m, -1)
		return nil
	case "down":
		m.lanes.move(m, 1)
		return nil
	case "enter":
		q.answer = nil
		if path := strings.TrimSpace(q.input.Value()); path != "" {
			q.answer = m.session.Why(path).Lines()
		}
		return nil
	}
	var cmd tea.Cmd
	q.input, cmd = q.input.Update(msg)
	return cmd
}

// view draws the panel in place of the stream.
func (q *question) view(m *model, height int) []string {
	rows := []string{""}
	if u := m.chosen(); u != nil {
		for _, line := range account(u) {
			rows = append(rows, "  "+line)
		}
		if use := m.uses[u.Name]; use.Memory > 0 {
			rows = append(rows, fmt.Sprintf("  it takes %.1f %% of a core and %s", 100*use.CPU, memory(use)))
		}
		if u.State.Broken() {
			rows = append(rows, m.lastLines(u.Name)...)
		}
	}
	rows = append(rows, "", "  "+q.input.View(), "")
	for _, line := range q.answer {
		rows = append(rows, "  "+m.palette.text.Render(line))
	}
	for i := range rows {
		rows[i] = fit(rows[i], m.width)
	}
	return pad(rows, height, m.width)
}

// lastLines are the last that a unit has written.
func (m *model) lastLines(unit string) []string {
	const most, look = 5, 40
	lines, err := m.session.Log().Window(unit, m.session.Log().Len(unit)-look, look)
	if err != nil {
		return []string{"  " + m.palette.broken.Render(err.Error())}
	}
	var rows []string
	for _, l := range lines {
		if l.Stream == logbook.Output {
			rows = append(rows, "    "+m.palette.dim.Render(ansi.Strip(l.Text)))
		}
	}
	if len(rows) == 0 {
		return nil
	}
	return append([]string{"  its last lines:"}, rows[max(0, len(rows)-most):]...)
}

// account says in words why a unit is as it is.
func account(u *engine.Unit) []string {
	lines := []string{fmt.Sprintf("%s is %s", u.Name, u.State)}
	switch u.Freshness {
	case engine.Current:
		lines[0] += ", and current: its newest run began after the last save that concerns it"
	case engine.Updating:
		lines[0] += ", on its way to the newest code"
	case engine.Stale:
		lines[0] += ", and stale: " + u.Why
	}
	if u.Freshness != engine.Stale && u.Why != "" {
		lines = append(lines, "it "+u.Why)
	}
	if u.Run.Number > 0 {
		lines = append(lines, fmt.Sprintf("run %d, of ripple %s, ran because: %s", u.Run.Number, numbers(u.Run.Ripples), u.Run.Because))
	}
	if u.Queued {
		lines = append(lines, "one more run follows the one at work")
	}
	if u.Run.Problem != "" {
		lines = append(lines, u.Run.Problem)
	} else if u.State.Broken() {
		lines = append(lines, "it ended with "+u.Run.Exit.String())
	}
	if !u.RetryAt.IsZero() && u.State == engine.Crashed {
		lines = append(lines, "it is started again at "+engine.Clock(u.RetryAt))
	}
	if len(u.Own) > 0 {
		lines = append(lines, "it does not react to what its own runs write: "+engine.List(u.Own))
	}
	if len(u.Suspects) > 0 {
		lines = append(lines, "changed since it last ran well: "+strings.Join(u.Suspects, ", "))
	}
	return lines
}

func numbers(ids []int) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(ids), " ", " and "), "[]")
}
