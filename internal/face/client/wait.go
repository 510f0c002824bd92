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
		Short: "Wait until everything is at rest after the newest save, and say how it ended",
		Long: `Waits until everything, or these units, has come to rest after all that was saved before the
call. The exit code is 0 where all is current, 1 where something is broken or stale, which
is named, and 3 where the time was up.`,
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(_ *cobra.Command, units []string) error {
			return a.on(func(ctx context.Context, p *api.Client) error {
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
	c.Flags().BoolVar(&strict, "strict", false, "exit with status 1 also when there are doubts")
	c.Flags().DurationVar(&timeout, "timeout", 0, "how long to wait at most; without it there is no limit")
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
			fmt.Fprintln(w, "    "+plain.Text(*u.Line, Colours()))
		}
	}
}
