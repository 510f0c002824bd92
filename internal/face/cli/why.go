package cli

import (
	"context"
	"errors"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/face/cli/why"
	"omnivigil/internal/face/client"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/session/observation"
	"omnivigil/internal/store/observed"
	"omnivigil/internal/store/paths"
)

func whyCommand(at *location.Location) *cobra.Command {
	asJSON := false
	c := &cobra.Command{
		Use:   "why UNIT or PATH ...",
		Short: "Explain a unit's state, or what a save of a path would set off",
		Long: `Explain why a unit is in its state: how it failed, where, the last relevant lines,
what changed since its last good run, what it blocks, and what to do.

Show for a path which units would act on a save, by which rule and in which order,
or which rule ignores the path. If the project is running, also show the present
state of these units. A name of a unit means the unit; ./NAME means the path.`,
		Args: cobra.MinimumNArgs(1),
		ValidArgsFunction: func(c *cobra.Command, taken []string, typed string) ([]string, cobra.ShellCompDirective) {
			units, _ := client.CompleteUnits(at)(c, taken, typed)
			return units, cobra.ShellCompDirectiveDefault
		},
		RunE: func(_ *cobra.Command, names []string) error {
			q, err := questions(*at)
			if err != nil {
				return err
			}
			for _, name := range names {
				if err := q.Answer(name, asJSON); err != nil {
					return err
				}
			}
			return nil
		},
	}
	c.Flags().BoolVar(&asJSON, "json", false, "print JSON as described in docs/api.md")
	return c
}

// questions returns the source of the answers.
func questions(at location.Location) (why.Questions, error) {
	file, err := at.FindRunning()
	if err != nil {
		return why.Questions{}, err
	}
	ctx := context.Background()
	if running, err := client.Connect(ctx, file); err == nil {
		snap, err := running.Snapshot(ctx)
		if err != nil {
			return why.Questions{}, exit.With(exit.Failed, err)
		}
		return why.Questions{
			Units:   snap.UnitNames(),
			Snap:    snap,
			Impact:  func(path string) (api.Impact, error) { return running.Why(ctx, path) },
			Explain: func(unit string) (api.Explanation, error) { return running.Explain(ctx, unit) },
		}, nil
	} else if !errors.Is(err, socket.ErrNotRunning) {
		return why.Questions{}, exit.With(exit.Failed, err)
	}
	p, err := at.Open()
	if err != nil {
		return why.Questions{}, err
	}
	seen := observation.Stored(p, observed.In(paths.State(), p.Root))
	return why.Questions{Units: p.UnitNames(), Impact: func(path string) (api.Impact, error) {
		f := impact.Why(p, path).Impact()
		observation.AddReaders(&f, p, seen)
		return f, nil
	}}, nil
}
