package tui

import (
	"fmt"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/text/format"
)

// doubtsPanel lists why the verdict may be wrong although it is current, what ends each doubt, and the keys
// that do.
type doubtsPanel struct{}

func (*doubtsPanel) name() string { return "doubts" }

func (*doubtsPanel) grabs(*model) bool { return true }

func (*doubtsPanel) update(*model, tea.Msg) {}

func showDoubts(m *model) { m.open(&doubtsPanel{}) }

// draw draws the panel instead of the stream.
func (d *doubtsPanel) draw(m *model, width, height int) []string {
	return underLanes(m, "doubts", height, func(room int) []string {
		rows := d.rows(m, room)
		for i := range rows {
			rows[i] = cells.Fit(rows[i], width)
		}
		return pad(rows, room, width)
	})
}

func (d *doubtsPanel) rows(m *model, room int) []string {
	rows := []string{""}
	add := func(format string, args ...any) { rows = append(rows, "  "+fmt.Sprintf(format, args...)) }
	doubts := m.snap.Doubts
	if len(doubts) == 0 {
		add("there are no doubts")
		return rows
	}
	add("%s: what follows is not known, so what is shown as current may not be", format.Count(len(doubts), "doubt"))
	add("")
	shown := doubts[:min(len(doubts), max((room-8)/2, 1))]
	for _, one := range shown {
		add(
			"%s %s  %s",
			m.palette.Stale.Render("?"),
			m.palette.Text.Render(one.What),
			m.palette.Dim.Render("since "+format.Clock(one.Since)),
		)
		add("  %s", m.palette.Dim.Render("to end it: "+one.Ends))
	}
	if more := len(doubts) - len(shown); more > 0 {
		add("and %d more", more)
	}
	add("")
	for _, b := range m.bindingsOf("doubts") {
		if b.group == onDoubt {
			add("%s  %s", m.palette.Text.Render(fmt.Sprintf("%9s", b.shown())), m.palette.Dim.Render(b.name))
		}
	}
	return rows
}

// doubtMark is what stands behind the verdict's word where there are doubts, and the verdict's text without
// them.
func doubtMark(m *model) (mark, text string) {
	v, n := m.snap.Verdict, len(m.snap.Doubts)
	if v.Word != api.VerdictCurrent || n == 0 {
		return "", v.Text
	}
	text, first, found := strings.Cut(v.Text, "; "+format.Count(n, "doubt")+": ")
	if !found {
		return "", v.Text
	}
	return m.palette.Stale.Render("? "+format.Count(n, "doubt")+": "+first) + "  ", text
}

// silentMsg says for how long the project has not answered; 0: it does again.
type silentMsg time.Duration

// silence is what is shown instead of a verdict that nothing confirms; empty where the project answers.
func silence(m *model) string {
	if m.silent == 0 {
		return ""
	}
	return fmt.Sprintf(
		"no answer from the project for %s; its process %d may be stopped",
		format.Duration(m.silent),
		m.snap.Project.Supervisor,
	)
}
