package view

import (
	"context"
	"fmt"
	"io"
	"os"
	"os/exec"

	tea "charm.land/bubbletea/v2"
)

// TellTerminal takes the terminal, or gives it back.
func (m *Model) TellTerminal(taken bool) {
	if m.Terminal != nil {
		m.ShowError(m.Terminal(taken))
	}
}

// Sequence is a message with control characters for the terminal.
type Sequence string

// Tell is a command that sends control characters to the terminal, which change nothing that is drawn.
func Tell(sequence string) tea.Cmd { return func() tea.Msg { return Sequence(sequence) } }

// runEditor runs an editor, on this terminal if it needs one.
func (m *Model) runEditor(cmd *exec.Cmd, terminal bool) {
	switch {
	case terminal:
		// The terminal itself: editors look at it, and the screen's own output is a pipe for them.
		cmd.Stdin, cmd.Stdout, cmd.Stderr = os.Stdin, os.Stdout, os.Stderr
		m.Run(tea.Exec(borrower{cmd, m.Lend}, func(err error) tea.Msg { return TerminalBackMsg{edited(cmd, err)} }))
	default:
		m.Later(func(context.Context) Then { return m.Report(edited(cmd, cmd.Run())) })
	}
}

// borrower is a program that runs on the terminal.
type borrower struct {
	*exec.Cmd
	lend func(run func() error) error
}

// Run runs the program, and implements tea.ExecCommand.
func (b borrower) Run() error { return b.lend(b.Cmd.Run) }

// SetStdin leaves the program its own input.
func (borrower) SetStdin(io.Reader) {}

// SetStdout leaves the program its own output.
func (borrower) SetStdout(io.Writer) {}

// SetStderr leaves the program its own output.
func (borrower) SetStderr(io.Writer) {}

// edited explains the error of an editor.
func edited(cmd *exec.Cmd, err error) error {
	if err != nil {
		return fmt.Errorf("the editor %s failed: %w", cmd.Args[0], err)
	}
	return nil
}

// TerminalBackMsg is sent when an editor has given the terminal back. Err is the editor's error.
type TerminalBackMsg struct{ Err error }
