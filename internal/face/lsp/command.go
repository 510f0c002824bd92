package lsp

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"go.lsp.dev/protocol"
	"go.lsp.dev/uri"

	"omnivigil/internal/api"
	"omnivigil/internal/face/card"
)

// target is what a command is about: its argument.
type target struct {
	Folder string        `json:"folder"`
	Unit   string        `json:"unit"`
	Test   *api.CaseName `json:"test,omitempty"`
}

// commands are those that apply to a mark.
func (f *folder) commands(m mark) []protocol.Command {
	of := target{f.dir, m.unit, m.test}
	titled := func(title, name string) protocol.Command {
		return protocol.Command{Title: title, Command: name, Arguments: []any{of}}
	}
	all := []protocol.Command{titled("rerun "+m.unit, rerun), titled("explain", explain)}
	if m.test == nil {
		return all
	}
	tests := []protocol.Command{titled("run this test", runTest), titled("only this test", only)}
	if m.narrowed {
		tests = append(tests, titled("run all tests", widen))
	}
	return append(tests, all...)
}

// at calls take with the marks of a document.
func (s *server) at(document uri.URI, take func(*folder, mark)) {
	file := fileOf(document)
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, f := range s.folders {
		for _, m := range f.marks {
			if m.file == file {
				take(f, m)
			}
		}
	}
}

// lenses are the commands for the failing tests in a document, above their lines.
func (s *server) lenses(document uri.URI) []protocol.CodeLens {
	all := []protocol.CodeLens{}
	s.at(document, func(f *folder, m mark) {
		if m.test == nil {
			return
		}
		for _, c := range f.commands(m) {
			all = append(all, protocol.CodeLens{Range: m.at, Command: &c})
		}
	})
	return all
}

// actions are the commands for what is in a range of a document.
func (s *server) actions(p *protocol.CodeActionParams) []protocol.CodeAction {
	all := []protocol.CodeAction{}
	s.at(p.TextDocument.URI, func(f *folder, m mark) {
		if m.at.End.Line < p.Range.Start.Line || m.at.Start.Line > p.Range.End.Line {
			return
		}
		for _, c := range f.commands(m) {
			all = append(all, protocol.CodeAction{
				Title: c.Title, Kind: protocol.QuickFix, Command: &c,
				Diagnostics: []protocol.Diagnostic{m.diagnostic(f.server.edited[m.file])},
			})
		}
	})
	return all
}

// execute carries out a command. Names of tests are passed on as names: they are never words of a shell.
func (s *server) execute(p *protocol.ExecuteCommandParams) error {
	var of target
	if len(p.Arguments) != 1 {
		return errors.New("the command has one argument")
	}
	data, err := json.Marshal(p.Arguments[0])
	if err == nil {
		err = json.Unmarshal(data, &of)
	}
	if err != nil {
		return fmt.Errorf("read the argument of %s: %w", p.Command, err)
	}
	s.mu.Lock()
	var project api.Project
	if f := s.folders[of.Folder]; f != nil {
		project = f.project
	}
	s.mu.Unlock()
	if project == nil {
		return fmt.Errorf("the project of %s is not running: start it with omnivigil start", of.Folder)
	}
	units := []string{of.Unit}
	switch p.Command {
	case runTest, only:
		if of.Test == nil {
			return errors.New("the command is about a test")
		}
		one := api.Request{Action: api.Narrow, Units: units, Cases: []api.CaseName{*of.Test}}
		if err := s.do(project, one); err != nil {
			return err
		}
		if p.Command == runTest {
			s.following.Go(func() { s.widenAfter(project, of.Unit) })
		}
		return nil
	case widen:
		return s.do(project, api.Request{Action: api.Widen, Units: units})
	case rerun:
		return s.do(project, api.Request{Action: api.Restart, Units: units})
	case explain:
		return s.explain(project, of.Unit)
	}
	return fmt.Errorf("there is no command %q", p.Command)
}

func (s *server) do(project api.Project, r api.Request) error {
	answer, err := project.Do(s.ctx, r)
	if err == nil && answer.Text != "" {
		s.say(protocol.MessageTypeInfo, answer.Text)
	}
	return err
}

// widenAfter runs all tests again when the one that was asked for has passed.
func (s *server) widenAfter(project api.Project, unit string) {
	waited, err := project.Wait(s.ctx, api.WaitQuery{Units: []string{unit}})
	if err != nil || len(waited.Trouble) > 0 {
		return
	}
	project.Do(s.ctx, api.Request{Action: api.Widen, Units: []string{unit}})
}

// explain shows everything about why a unit is in its state.
func (s *server) explain(project api.Project, unit string) error {
	e, err := project.Explain(s.ctx, unit)
	if err != nil {
		return err
	}
	snap, err := project.Snapshot(s.ctx)
	if err != nil {
		return err
	}
	var text strings.Builder
	card.Write(&text, e, snap.Project.Root, time.Now())
	s.say(protocol.MessageTypeInfo, strings.TrimSpace(text.String()))
	return nil
}
