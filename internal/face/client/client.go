// Package client has the commands that query and control a running project. Each is a face: it uses nothing but the
// contract in package api. Start reading at Commands.
package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/remote"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/text/escape"
)

// Settings determine the project.
type Settings interface {
	// Find returns the settings file.
	Find() (string, error)
	// FindRunning is Find, except that it returns the settings of a command that was typed in the same directory, if
	// that is running and the project is not.
	FindRunning() (string, error)
	// Remote returns where the project runs; nil: on this machine.
	Remote() (*remote.Address, error)
	// Selection returns the units and groups of a selection of the user, such as "@sea".
	Selection(name string) ([]string, error)
	// Flag adds the flag for the settings file to a command, without a short form.
	Flag(*cobra.Command)
}

// Commands returns the commands.
func Commands(of Settings) []*cobra.Command {
	return append(
		append(requestCommands(of), resultCommands(of)...),
		statusCommand(of),
		logsCommand(of),
		ripplesCommand(of),
		waitCommand(of),
		typeCommand(of),
		screenCommand(of),
	)
}

// asking is what such commands have in common.
type asking struct {
	of     Settings
	asJSON bool
}

func (a *asking) flag(c *cobra.Command) *cobra.Command {
	c.Flags().BoolVar(&a.asJSON, "json", false, "print JSON as described in docs/api.md")
	return c
}

// on calls a function with the running project, until it is interrupted.
func (a *asking) on(do func(ctx context.Context, p *apiclient.Client) error) error {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	p, err := Reach(ctx, a.of)
	if err != nil {
		return err
	}
	defer p.Close()
	err = do(ctx, p)
	var refusal *api.Refusal
	var o exit.Outcome
	switch {
	case err == nil || errors.As(err, &o):
		return err
	case errors.Is(err, api.ErrSilent):
		return exit.With(exit.TimedOut, err)
	case ctx.Err() != nil:
		return exit.Quietly(exit.Interrupted)
	case errors.As(err, &refusal):
		return exit.Refuse("omnivigil: %s", refusal.Text)
	case errors.Is(err, syscall.EPIPE):
		return nil
	}
	return exit.With(exit.Failed, err)
}

// PrintJSON prints a value as a line of JSON.
func PrintJSON(value any) error {
	out := json.NewEncoder(os.Stdout)
	out.SetEscapeHTML(false)
	return out.Encode(value)
}

// Say prints a line after escaping everything that acts on a terminal.
func Say(w io.Writer, format string, args ...any) {
	fmt.Fprintln(w, escape.Lines(strings.TrimRight(fmt.Sprintf(format, args...), " ")))
}

// CompleteUnits returns the completion of names of units and groups.
func CompleteUnits(of Settings) cobra.CompletionFunc {
	return func(_ *cobra.Command, taken []string, _ string) ([]string, cobra.ShellCompDirective) {
		return completions(of, taken), cobra.ShellCompDirectiveNoFileComp
	}
}

func completions(of Settings, taken []string) []string {
	file, err := of.Find()
	if err != nil {
		return nil
	}
	p, err := settings.Read(file)
	if err != nil {
		return nil
	}
	var names []string
	add := func(name, what string) {
		if !slices.Contains(taken, name) {
			names = append(names, name+"\t"+what)
		}
	}
	for _, u := range p.Units {
		add(u.Name, u.Kind.String())
	}
	for _, g := range p.Groups {
		add(g.Name, "group of "+strings.Join(g.Units, ", "))
	}
	for _, m := range p.Members {
		add(m.Name, "units in "+m.Path)
	}
	return names
}
