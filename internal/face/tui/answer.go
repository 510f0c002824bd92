package tui

import (
	"context"
	"os"

	"charm.land/bubbles/v2/textinput"

	"omnivigil/internal/api"
)

// answerField asks for a line for a unit's terminal, without leaving the stream.
type answerField struct {
	field
	unit string
}

func openAnswer(m *model) {
	u := m.selectedUnit()
	ask := m.snap.Asks[u.Name]
	prompt, what := "type to "+u.Name+"  ", "a line for its terminal"
	if ask.Kind == api.AskLine || ask.Kind == api.AskPassword {
		prompt, what = u.Name+" asks: "+ask.Text+"  ", "the answer"
	}
	f := &answerField{m.fieldOver(overviewOf(m), "answer", prompt, what, ""), u.Name}
	f.hide(m)
	m.open(f)
}

// hide shows nothing of a password.
func (f *answerField) hide(m *model) {
	f.input.EchoMode = textinput.EchoNormal
	if m.snap.Asks[f.unit].Kind == api.AskPassword {
		f.input.EchoMode = textinput.EchoPassword
	}
}

func (f *answerField) draw(m *model, width, height int) []string {
	f.hide(m)
	return f.field.draw(m, width, height)
}

// submit types the line and enter.
func (f *answerField) submit(m *model) {
	in := api.Input{Unit: f.unit, Text: f.input.Value(), Keys: []string{"enter"}, Face: os.Getpid()}
	m.close()
	m.later(func(ctx context.Context) then { return m.report(m.project.Input(ctx, in)) })
}

// asks reports whether the selected unit waits for input.
func asks(m *model) bool { return m.snap.Asks[m.selected].Kind != "" }

// terminalKeys are for the selected unit's terminal.
var terminalKeys = []binding{
	{keys: []string{"i"}, action: "answer", name: "type a line into its terminal, such as an answer",
		hint: "answer", group: onUnit, when: canType, first: asks, do: openAnswer},
	{keys: []string{"h"}, action: "type-into", name: "type into its terminal, or see its last screen",
		hint: "type into it", group: onUnit, when: hasTerminal, first: asks, do: takeInHand},

	{in: "answer", keys: []string{"enter"}, name: "type it", hint: "type", group: onField,
		do: on(func(m *model, f *answerField) { f.submit(m) })},
	{in: "answer", keys: []string{"esc", "ctrl+c"}, name: "cancel", hint: "cancel", group: onField,
		do: (*model).close},
}
