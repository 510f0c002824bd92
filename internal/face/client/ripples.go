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
	"omnivigil/internal/api/changes"
	"omnivigil/internal/face/plain"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/text/format"
)

func ripplesCommand(of Settings) *cobra.Command {
	a := &reading{asking: asking{of: of}}
	withDiff := false
	c := a.flag(&cobra.Command{
		Use:   "ripples [NUMBER or last]",
		Short: "List recent ripples, or show one ripple in full",
		Long: `A ripple is a save or another cause with every run that it caused, until all are at
rest. Without a number, list the newest twenty. "last" is that of the newest save.

With --diff, print what it has changed as a unified diff. Env files and secrets are left out.`,
		Args: cobra.MaximumNArgs(1),
		RunE: func(_ *cobra.Command, args []string) error {
			return a.read(func(ctx context.Context, p api.Record) error {
				snap, err := p.Snapshot(ctx)
				if err != nil {
					return err
				}
				if len(args) == 0 && withDiff {
					args = []string{Last}
				}
				if len(args) == 0 {
					return a.sayRipples(snap)
				}
				r, err := RippleNamed(snap, args[0])
				if err != nil {
					return err
				}
				if withDiff {
					return a.sayChanges(ctx, p, changes.Query{Ripple: r.ID})
				}
				if a.asJSON {
					return PrintJSON(r)
				}
				return sayRipple(ctx, os.Stdout, p, r)
			})
		},
	})
	c.Flags().BoolVar(&withDiff, "diff", false, "of one ripple: print what it has changed, line by line")
	return c
}

// sayChanges prints changes.
func (a *asking) sayChanges(ctx context.Context, p api.Record, q changes.Query) error {
	c, err := p.Changes(ctx, q)
	if err != nil {
		return err
	}
	if a.asJSON {
		return PrintJSON(c)
	}
	writePatch(os.Stdout, c)
	return nil
}

func (a *asking) sayRipples(snap *api.Snapshot) error {
	const most = 20
	newest := snap.Ripples[max(len(snap.Ripples)-most, 0):]
	if a.asJSON {
		return PrintJSON(newest)
	}
	for _, r := range newest {
		Say(os.Stdout, "%4d  %s  %-8s %9s  %s", r.ID, format.Clock(r.Since), r.Outcome, rippleTook(r), r.Title)
	}
	return nil
}

func rippleTook(r *api.Ripple) string {
	if !r.Resting() {
		return ""
	}
	return format.Duration(r.RestAt.Sub(r.Since))
}

// sayRipple prints a ripple with its runs, and the output of the failed ones.
func sayRipple(ctx context.Context, w io.Writer, p api.Log, r *api.Ripple) error {
	Say(w, "ripple %d, %s: %s", r.ID, format.Clock(r.Since), r.Title)
	switch {
	case !r.Resting():
		Say(w, "it is not at rest yet")
	case r.Detail != "":
		Say(w, "%s after %s: %s", r.Outcome, rippleTook(r), r.Detail)
	default:
		Say(w, "%s after %s", r.Outcome, rippleTook(r))
	}
	if len(r.Paths) > 1 {
		Say(w, "files: %s", strings.Join(r.Paths, ", "))
	}
	for _, c := range r.Concerned {
		Say(w, "%s: it matches %q", c.Unit, c.Rule)
	}
	for _, bar := range timeline.WaterfallOf(r, time.Now(), 1).Bars {
		ref := bar.RunRef
		what := fmt.Sprintf("run %d", ref.Number)
		if ref.Pass > 0 {
			what += fmt.Sprintf(", pass %d", ref.Pass)
		}
		failed := ""
		if ref.Failed {
			failed = "  failed"
		}
		Say(w, "  %s %s  %s%s  %s", ref.Unit, what, format.Duration(ref.Took.Duration()), failed, bar.Reason())
		if !ref.Failed {
			continue
		}
		page, err := p.Lines(ctx, api.LineQuery{Unit: ref.Unit, Run: ref.Number, Why: true, Count: 10})
		if err != nil {
			return err
		}
		for _, l := range page.Lines {
			fmt.Fprintln(w, "    "+plain.Text(l, Colors()))
		}
	}
	return nil
}
