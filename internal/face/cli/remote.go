package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"omnivigil/internal/api/bridge"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/face/cli/show"
	"omnivigil/internal/face/remote"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/store/paths"
)

// bridgeCommand carries the socket of a project over its input and output. The other machine runs it with ssh.
func bridgeCommand(at *location.Location) *cobra.Command {
	return &cobra.Command{
		Use:    "bridge",
		Short:  "Carry a project's socket over standard input and output, for omnivigil --at",
		Hidden: true,
		Args:   cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if below, is := strings.CutPrefix(at.Dir, "~/"); is {
				home, err := os.UserHomeDir()
				if err != nil {
					return exit.With(exit.Failed, err)
				}
				at.Dir = filepath.Join(home, below)
			}
			file, err := at.FindRunning()
			if err != nil {
				return err
			}
			place, err := paths.Place(file)
			if err != nil {
				return exit.With(exit.Failed, err)
			}
			if c, err := apiclient.Connect(context.Background(), place); errors.Is(err, socket.ErrNotRunning) {
				return exit.Refuse("omnivigil: the project of %s is not running there", file)
			} else if err == nil {
				c.Close()
			}
			return bridge.Serve(stdio{os.Stdin, os.Stdout}, place.Listening().Dial, version())
		},
	}
}

// stdio is the input and output of this process as a stream.
type stdio struct {
	io.Reader
	io.WriteCloser
}

// startThere starts a project on another machine, which asks for consent on this terminal, and shows it.
func startThere(there *remote.Address, opts startOptions, units []string) error {
	words := []string{"start", "-C", there.Path, "--background"}
	if opts.trust {
		words = append(words, "--trust")
	}
	err := there.Run(context.Background(), append(append(words, "--"), units...)...)
	var failed *exec.ExitError
	switch {
	case errors.As(err, &failed):
		return exit.Quietly(failed.ExitCode())
	case err != nil:
		return exit.With(exit.Failed, fmt.Errorf("run ssh: %w", err))
	case opts.background || !show.IsScreenPossible() && !opts.Plain:
		return nil
	}
	return attachThere(there, opts.Look)
}

// attachThere shows a project on another machine.
func attachThere(there *remote.Address, as show.Look) error {
	link := there.Link()
	project, err := apiclient.ConnectOver(context.Background(), link)
	if err != nil {
		return exit.With(exit.Failed, fmt.Errorf("reach %s: %w", there, err))
	}
	if theirs := link.Version(); theirs != version() {
		fmt.Fprintf(os.Stderr, "omnivigil there is another one: %s; here: %s\n", theirs, version())
	}
	forwarder := &remote.Forwarder{Link: link}
	as.Remote = &view.Remote{Name: there.String(), User: there.User, Host: there.Host, Forward: forwarder.Forward}
	return show.Project(socket.Place{}, project, as)
}
