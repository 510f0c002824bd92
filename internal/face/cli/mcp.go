package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"sync"
	"syscall"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/face/cli/personal"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/mcp"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/supervisor"
)

func mcpCommand(at *location.Location) *cobra.Command {
	given := false
	c := &cobra.Command{
		Use:   "mcp",
		Short: "Serve a coding assistant over the Model Context Protocol, on standard input and output",
		Long: `Offer the running project to a coding assistant: its status with reasons, waiting
until a save is at rest, output, tests, findings, and restarting units. If the
project is not running, --trust allows the assistant to start it; the project then
ends with the assistant.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			a := &assistant{ctx: ctx, at: at, trusted: given}
			if err := mcp.Serve(ctx, version(), a.connect, assistantsMayType); err != nil && ctx.Err() == nil {
				return exit.With(exit.Failed, err)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&given, "trust", false, "start the project without asking if it is not running")
	return c
}

// assistantsMayType reports whether the personal file allows assistants to type into terminals.
func assistantsMayType() bool {
	p, _ := personal.Read()
	return p.AssistantsMayType
}

// assistant is a face that connects on demand, and again when the project was restarted.
type assistant struct {
	ctx     context.Context
	at      *location.Location
	trusted bool

	mu      sync.Mutex
	project *apiclient.Client // nil: not connected
}

func (a *assistant) connect(ctx context.Context) (api.Project, error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.project != nil {
		return a.project, nil
	}
	p, err := a.at.Open()
	if err != nil {
		return nil, err
	}
	running, err := client.Connect(ctx, p.File)
	if errors.Is(err, socket.ErrNotRunning) {
		if !a.trusted {
			return nil, fmt.Errorf(
				"the project of %s is not running: start it with omnivigil start, or allow omnivigil mcp to start "+
					"it with --trust",
				p.File,
			)
		}
		place, err := paths.Place(p.File)
		if err != nil {
			return nil, err
		}
		running, err = launch(place, supervisor.Options{File: p.File, Agreed: consent.Fingerprint(p)})
		var runs *runsAlready
		if errors.As(err, &runs) {
			running, err = runs.running, nil
		}
		if err != nil {
			return nil, err
		}
	} else if err != nil {
		return nil, err
	}
	a.project = running
	go a.follow(running)
	return running, nil
}

// follow attaches the face as long as the project runs.
func (a *assistant) follow(running *apiclient.Client) {
	running.Follow(a.ctx, api.Face{Kind: "assistant", PID: os.Getpid()}, func(*api.Snapshot) error { return nil })
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.project == running {
		a.project = nil
	}
}
