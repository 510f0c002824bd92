package client

import (
	"context"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/plain"
	"omnivigil/internal/text/format"
)

func waitCommand(of Settings) *cobra.Command {
	a := &asking{of: of}
	var timeout time.Duration
	strict := false
	c := a.flag(&cobra.Command{
		Use:   "wait [UNIT or GROUP ...]",
		Short: "Wait until the newest save is at rest and print the verdict",
		Long: `Wait until everything, or these units, is at rest after everything that was saved
before the call. The exit status is 0 if all is current, 1 if something is broken or
stale (which is printed), and 3 on timeout.`,
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(_ *cobra.Command, units []string) error {
			return a.on(func(ctx context.Context, p *apiclient.Client) error {
				waited, err := p.Wait(ctx, api.WaitQuery{Units: units, Timeout: api.Seconds(timeout)})
				if err != nil {
					return err
				}
				if a.asJSON {
					if err := PrintJSON(waited); err != nil {
						return err
					}
				} else {
					sayWaited(os.Stdout, waited)
				}
				switch {
				case waited.OK && !(strict && len(waited.Doubts) > 0):
					return nil
				case waited.TimedOut:
					return exit.Quietly(exit.TimedOut)
				}
				return exit.Quietly(exit.Failed)
			})
		},
	})
	c.Flags().BoolVar(&strict, "strict", false, "exit with status 1 if there are doubts")
	c.Flags().DurationVar(&timeout, "timeout", 0, "timeout (default: none)")
	return c
}

func sayWaited(w io.Writer, waited api.Waited) {
	if waited.TimedOut {
		Say(w, "It has not come to rest within %s.", format.Duration(waited.Took.Duration()))
	}
	Say(w, "%s  %s", strings.ToUpper(string(waited.Verdict.Word)), waited.Verdict.Text)
	sayDoubts(w, waited.Doubts)
	for _, u := range waited.Trouble {
		text := fmt.Sprintf("%s is %s", u.Unit, u.Freshness)
		if u.State.Broken() || u.Freshness == api.NoCode {
			text = fmt.Sprintf("%s %s", u.Unit, u.State)
		}
		if u.Why != "" {
			text += ": " + u.Why
		}
		Say(w, "  %s", text)
		if u.Line != nil {
			fmt.Fprintln(w, "    "+plain.Text(*u.Line, Colors()))
		}
	}
}
