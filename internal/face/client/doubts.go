package client

import (
	"context"
	"fmt"
	"os"
	"slices"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
)

func doubtsCommand(of Settings) *cobra.Command {
	a := &asking{of: of}
	touch, dismiss := false, false
	c := a.flag(&cobra.Command{
		Use:   "doubts [UNIT or GROUP ...]",
		Short: "List and end the doubts about the verdict",
		Long: `List the doubts about the project or these units, with what ends each doubt. A doubt
is a reason why a unit may not be current although everything known says that it is,
such as a file that is older than the output that make produced from it.`,
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(_ *cobra.Command, units []string) error {
			return a.on(func(ctx context.Context, p *apiclient.Client) error {
				switch {
				case touch && dismiss:
					return exit.Refuse("omnivigil: --touch and --dismiss exclude each other")
				case touch:
					return a.do(ctx, p, api.Request{Action: api.Touch, Units: units})
				case dismiss:
					return a.do(ctx, p, api.Request{Action: api.Dismiss, Units: units})
				}
				snap, err := p.Snapshot(ctx)
				if err != nil {
					return err
				}
				doubts := slices.DeleteFunc(slices.Clone(snap.Doubts), func(d api.Doubt) bool {
					return len(units) > 0 && !slices.Contains(units, d.Unit)
				})
				switch {
				case a.asJSON:
					return PrintJSON(doubts)
				case len(doubts) == 0:
					fmt.Println("There are no doubts.")
				}
				sayDoubts(os.Stdout, doubts)
				return nil
			})
		},
	})
	c.Flags().BoolVar(
		&touch,
		"touch",
		false,
		"set the modification time of the doubtful files to now, so that they count as saved",
	)
	c.Flags().BoolVar(&dismiss, "dismiss", false, "dismiss the doubts")
	return c
}
