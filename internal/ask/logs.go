package ask

import (
	"context"
	"fmt"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/exit"
	"omnivigil/internal/plain"
)

func logsCommand(of Settings) *cobra.Command {
	a := &asking{of: of}
	var follow bool
	var count int
	var since string
	c := a.flag(&cobra.Command{
		Use:               "logs [UNIT]",
		Short:             "Print the output of the running project, or of one unit",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(_ *cobra.Command, units []string) error {
			q := api.LineQuery{Count: min(count, api.MostLines), Last: true}
			if len(units) > 0 {
				q.Unit = units[0]
			}
			if since != "" {
				at, err := moment(since, time.Now())
				if err != nil {
					return exit.Refuse("omnivigil: --since: %v", err)
				}
				q.Last, q.Since, q.Count = false, at, api.MostLines
			}
			return a.on(func(ctx context.Context, p *api.Client) error { return a.lines(ctx, p, q, follow) })
		},
	})
	// Here -f is what it is for every command of that name, so --file has no short form.
	of.Flag(c)
	c.Flags().BoolVarP(&follow, "follow", "f", false, "go on with what is written from now on, until the project ends")
	c.Flags().IntVarP(&count, "lines", "n", api.DefaultLines, "how many of the last lines")
	c.Flags().StringVar(&since, "since", "", "all since then: a length of time such as 10m, or a time of day such as 14:05")
	return c
}

// moment reads a length of time before now, or a time of day, or a whole date.
func moment(text string, now time.Time) (time.Time, error) {
	if d, err := time.ParseDuration(text); err == nil {
		return now.Add(-d), nil
	}
	for _, form := range []string{"15:04:05", "15:04"} {
		if t, err := time.ParseInLocation(form, text, now.Location()); err == nil {
			return time.Date(now.Year(), now.Month(), now.Day(), t.Hour(), t.Minute(), t.Second(), 0, now.Location()), nil
		}
	}
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t, nil
	}
	return time.Time{}, fmt.Errorf("%q is neither a length of time such as 10m nor a time such as 14:05", text)
}

// lines prints lines, and goes on with those that come.
func (a *asking) lines(ctx context.Context, p *api.Client, q api.LineQuery, follow bool) error {
	snap, err := p.Snapshot(ctx)
	if err != nil {
		return err
	}
	if q.Unit != "" && snap.Unit(q.Unit) == nil {
		return api.Refuse("there is no unit %s", q.Unit)
	}
	format := plain.For(snap, Colours())
	show := func(lines []api.Line) error {
		for _, l := range lines {
			var err error
			if a.asJSON {
				err = PrintJSON(l)
			} else {
				_, err = fmt.Println(format.Line(l))
			}
			if err != nil {
				return err
			}
		}
		return nil
	}
	if follow {
		return api.FollowLines(ctx, p, q, show)
	}
	for {
		page, err := p.Lines(ctx, q)
		if err != nil || len(page.Lines) == 0 {
			return err
		}
		if err := show(page.Lines); err != nil || q.Last {
			return err
		}
		q.Since, q.From = time.Time{}, page.End
	}
}
