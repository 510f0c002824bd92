package cli

import (
	"context"
	"errors"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/client"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/session/observation"
	"omnivigil/internal/store/observed"
	"omnivigil/internal/store/paths"
)

func whyCommand(at *location) *cobra.Command {
	asJSON := false
	c := &cobra.Command{
		Use:   "why PATH...",
		Short: "Show what a save of each path would set off",
		Long: `Show for each path which units would act on a save, by which rule and in which
order, or which rule ignores the path. If the project is running, also show the
present state of these units.`,
		Args: cobra.MinimumNArgs(1),
		RunE: func(_ *cobra.Command, names []string) error {
			foresee, snap, err := at.impactOf()
			if err != nil {
				return err
			}
			for _, path := range names {
				abs, err := filepath.Abs(path)
				if err != nil {
					return exit.Refuse("omnivigil: %v", err)
				}
				f, err := foresee(abs)
				switch {
				case err != nil:
					return exit.With(exit.Failed, err)
				case asJSON:
					if err := client.PrintJSON(f); err != nil {
						return err
					}
				default:
					sayImpact(f, snap)
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON as described in docs/api.md")
	return c
}

// impactOf returns the source of the answer, and the project: the running one, or if it is not running, its settings
// and nil.
func (at location) impactOf() (func(path string) (api.Impact, error), *api.Snapshot, error) {
	file, err := at.FindRunning()
	if err != nil {
		return nil, nil, err
	}
	ctx := context.Background()
	if running, err := client.Connect(ctx, file); err == nil {
		snap, err := running.Snapshot(ctx)
		return func(path string) (api.Impact, error) { return running.Why(ctx, path) }, snap, err
	} else if !errors.Is(err, socket.ErrNotRunning) {
		return nil, nil, exit.With(exit.Failed, err)
	}
	p, err := at.open()
	if err != nil {
		return nil, nil, err
	}
	seen := observation.Stored(p, observed.In(paths.State(), p.Root))
	return func(path string) (api.Impact, error) {
		f := impact.Why(p, path).Impact()
		observation.AddReaders(&f, p, seen)
		return f, nil
	}, nil, nil
}

func sayImpact(f api.Impact, snap *api.Snapshot) {
	client.Say(os.Stdout, "%s", strings.Join(f.Text, "\n"))
	if snap == nil {
		return
	}
	for _, act := range f.Acts {
		if u := snap.Unit(act.Unit); u != nil {
			client.Say(os.Stdout, "  now %s", snap.Account(u)[0])
		}
	}
}
