package typing

import (
	"context"
	"os"

	"charm.land/bubbles/v2/textinput"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/view"
)

// answerField asks for a line of input for a unit. The stream stays visible.
type answerField struct {
	view.Field
	unit string
}

func openAnswer(m *view.Model) {
	u := m.SelectedUnit()
	ask := m.Snap.Asks[u.Name]
	prompt, what := "type to "+u.Name+"  ", "a line for its terminal"
	if ask.Kind == api.AskLine || ask.Kind == api.AskPassword {
		prompt, what = u.Name+" asks: "+ask.Text+"  ", "the answer"
	}
	f := &answerField{m.NewField(overview.Of(m), "answer", prompt, what, ""), u.Name}
	f.hide(m)
	m.Open(f)
}

// hide hides a password.
func (f *answerField) hide(m *view.Model) {
	f.Input.EchoMode = textinput.EchoNormal
	if m.Snap.Asks[f.unit].Kind == api.AskPassword {
		f.Input.EchoMode = textinput.EchoPassword
	}
}

func (f *answerField) Draw(m *view.Model, width, height int) []string {
	f.hide(m)
	return f.Field.Draw(m, width, height)
}

// submit types the line and Enter.
func (f *answerField) submit(m *view.Model) {
	in := api.Input{Unit: f.unit, Text: f.Input.Value(), Keys: []string{"enter"}, Face: os.Getpid()}
	m.Close()
	m.Later(func(ctx context.Context) view.Then { return m.Report(m.Project.Input(ctx, in)) })
}

// asks reports whether the selected unit waits for input.
func asks(m *view.Model) bool { return m.Snap.Asks[m.Selected].Kind != "" }
