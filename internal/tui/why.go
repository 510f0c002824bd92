package tui

import (
	"fmt"
	"strings"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/engine"
)

// question is the panel that answers why: why the chosen unit is as it is, and
// what a save of some path would set off. Keys act on the unit as they do elsewhere,
// until the field is entered.
type question struct {
	open   bool
	input  textinput.Model
	answer []string
}

func newQuestion() question {
	in := textinput.New()
	in.Prompt = "what if I save  "
	in.Placeholder = "enter, then a path"
	return question{input: in}
}

func (q *question) show(m *model) {
	q.open = true
	q.input.SetWidth(max(m.width-20, 10))
	q.input.Blur()
}

// asking reports whether the field takes the keys.
func (q *question) asking() bool { return q.open && q.input.Focused() }

// key handles a key while the panel is open.
func (q *question) key(m *model, msg tea.KeyPressMsg) {
	switch key := msg.String(); {
	case q.asking() && (key == "esc" || key == "ctrl+c"):
		q.input.Blur()
	case q.asking() && key == "enter":
		q.answer = nil
		if path := strings.TrimSpace(q.input.Value()); path != "" {
			q.answer = m.session.Why(path).Lines()
		}
	case q.asking():
		q.input, m.pending = q.input.Update(msg)
	case key == "esc" || key == "y":
		q.open = false
	case key == "enter":
		m.pending = q.input.Focus()
	default:
		m.press(key)
	}
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
			rows = append(rows, m.lastLines(u)...)
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

// lastLines are those of a unit's newest run that are most likely to say why it ended.
func (m *model) lastLines(u *engine.Unit) []string {
	const most = 6
	lines, err := m.session.Log().LastWords(u.Name, u.Run.Number, most)
	if err != nil {
		return []string{"  " + m.palette.broken.Render(err.Error())}
	}
	rows := []string{"  its last lines:"}
	for _, l := range lines {
		rows = append(rows, "    "+m.palette.dim.Render(ansi.Strip(l.Text)))
	}
	if len(lines) == 0 {
		return nil
	}
	return rows
}

func currentBecause(u *engine.Unit) string {
	switch {
	case !u.Run.Reused.IsZero():
		return "what it made at " + engine.Moment(u.Run.Reused, u.Run.OrderedAt) + " still holds, since nothing that it depends on has changed"
	case u.Pass.Number > 0:
		return "its newest pass has taken up the last save that concerns it"
	}
	return "its newest run began after the last save that concerns it"
}

// account says in words why a unit is as it is.
func account(u *engine.Unit) []string {
	lines := []string{u.Name + " " + stateVerb(u.State)}
	switch u.Freshness {
	case engine.Current:
		lines[0] += ", and current: " + currentBecause(u)
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
		if u.Run.Command != "" {
			lines = append(lines, "it ran "+u.Run.Command)
		}
	}
	if len(u.Owed) > 0 && u.Run.Number > 0 && !u.Moving {
		lines = append(lines, "still to be run, since an earlier run left it undone: "+strings.Join(u.Owed, "; "))
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
	if u.Loop != nil {
		lines = append(lines, "it does not react to what set it off in a loop: "+engine.List(u.Loop.Files))
	}
	if len(u.Suspects) > 0 {
		lines = append(lines, "changed since it last ran well: "+strings.Join(u.Suspects, ", "))
	}
	return lines
}

// stateVerb says in a sentence what a unit does or how it ended.
func stateVerb(s engine.State) string {
	if s.Broken() {
		return s.String()
	}
	return "is " + s.String()
}

func numbers(ids []int) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(ids), " ", " and "), "[]")
}
