package tui

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"os/exec"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/output/locate"
	"omnivigil/internal/text/location"
)

// openEditor opens a place in the user's editor.
func (m *model) openEditor(p location.Location) {
	editor := cmp.Or(m.editor, os.Getenv("VISUAL"), os.Getenv("EDITOR"))
	cmd, terminal, err := locate.Command(editor, p)
	switch {
	case err != nil:
		m.notice = err.Error()
	case terminal:
		m.run(tea.ExecProcess(cmd, func(err error) tea.Msg { return backMsg{edited(cmd, err)} }))
	default:
		m.later(func(context.Context) then { return m.report(edited(cmd, cmd.Run())) })
	}
}

// openPlace opens the place of a test or a finding in the user's editor.
func (m *model) openPlace(p location.Location) {
	if p.File == "" {
		m.said = "no place in a file is known of it"
		return
	}
	if _, err := os.Stat(p.File); err != nil {
		m.notice = p.File + " does not exist"
		return
	}
	m.openEditor(location.Location{File: p.File, Line: p.Line, Column: p.Column})
}

// edited says what has become of an editor.
func edited(cmd *exec.Cmd, err error) error {
	if err != nil {
		return fmt.Errorf("the editor %s failed: %w", cmd.Args[0], err)
	}
	return nil
}

// backMsg is that an editor has given the terminal back.
type backMsg struct{ err error }
