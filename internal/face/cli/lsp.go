package cli

import (
	"context"
	"os"
	"os/signal"
	"syscall"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/lsp"
)

func lspCommand() *cobra.Command {
	return &cobra.Command{
		Use:   "lsp",
		Short: "Serve findings and failing tests to an editor, on standard input and output",
		Long: `Publish findings and failing tests of the running projects in the editor's folders as
diagnostics, with commands to rerun a test or a unit, and to explain a failure, over the
Language Server Protocol. The editor runs this command. It never starts a project.`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
			defer stop()
			projects := lsp.Projects{Of: location.Above, Connect: connect}
			err := lsp.Serve(ctx, stdio{os.Stdin, os.Stdout}, version(), projects)
			if err != nil && ctx.Err() == nil {
				return exit.With(exit.Failed, err)
			}
			return nil
		},
	}
}

// connect connects an editor to a running project.
func connect(ctx context.Context, file string) (api.Project, func(), error) {
	running, err := client.Connect(ctx, file)
	if err != nil {
		return nil, nil, err
	}
	running.Patient = true // the editor shows what is known until the project answers again
	return running, running.Close, nil
}
