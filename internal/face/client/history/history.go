// Package history has the command that looks back across sessions. It reads the history itself, so the project need not
// be running.
package history

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/signal"
	"slices"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/past"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/lookback"
	"omnivigil/internal/store/history/reader"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/text/suggest"
)

// looking is how a user looks at the history.
type looking struct {
	of      client.Settings
	asJSON  bool
	query   past.Query
	since   string
	what    map[past.Kind]*bool
	compare string
	dismiss int64
}

// Command returns the command history.
func Command(of client.Settings) *cobra.Command {
	l := &looking{of: of, what: map[past.Kind]*bool{}}
	c := &cobra.Command{
		Use:   "history [UNIT ...]",
		Short: "Show runs, tests, ripples and trends across sessions",
		Long: `Show what the history of the project has: without a unit, a summary of each unit, and
what has changed for longer than a run (trends); with units, their runs, newest first.
The project need not be running; what happened in the last two seconds may be missing.

--compare shows which units and tests differ between two branches or commits by more
than chance. --dismiss marks a trend as dismissed.`,
		Example: `  omnivigil history
  omnivigil history harbour --since 14d
  omnivigil history --tests --branch main
  omnivigil history --compare main..tide-table`,
		ValidArgsFunction: client.CompleteUnits(of),
		RunE: func(c *cobra.Command, units []string) error {
			l.query.Units = units
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return l.run(ctx, c.Flags().Changed("dismiss"))
		},
	}
	c.Flags().BoolVar(&l.asJSON, "json", false, "print JSON as described in docs/api.md")
	for kind, says := range map[past.Kind]string{
		past.Tests:   "tests, the most unreliable ones first",
		past.Ripples: "ripples, newest first",
		past.Trends:  "only trends, newest first",
	} {
		l.what[kind] = c.Flags().Bool(string(kind), false, says)
	}
	c.Flags().
		StringVar(&l.since, "since", "", "only what began since then: a duration such as 14d or 2h, or a date")
	c.Flags().StringVar(&l.query.Branch, "branch", "", "only what ran on this branch")
	c.Flags().IntVarP(&l.query.Count, "number", "n", 0, "at most so many")
	c.Flags().StringVar(&l.compare, "compare", "", "compare two branches or commits, as A..B")
	c.Flags().Int64Var(&l.dismiss, "dismiss", 0, "dismiss the trend with this number")
	c.MarkFlagsMutuallyExclusive("tests", "ripples", "trends", "compare", "dismiss")
	return c
}

// run opens the history and shows what was asked for.
func (l *looking) run(ctx context.Context, dismiss bool) error {
	file, err := l.of.Find()
	if err != nil {
		return err
	}
	dir := paths.History(file)
	if l.query.Since, err = lookback.Since(l.since, time.Now()); err != nil {
		return exit.Refuse("omnivigil: --since: %v", err)
	}
	if dismiss {
		return l.dismissed(dir)
	}
	r, err := reader.Read(dir)
	if errors.Is(err, reader.ErrNone) {
		return exit.Refuse("omnivigil: the project of %s has no history yet: it is written while the project runs", file)
	}
	if err != nil {
		return exit.With(exit.Failed, fmt.Errorf("read the history in %s: %w", dir, err))
	}
	defer r.Close()
	if err := l.checkUnits(ctx, r); err != nil {
		return err
	}
	if l.compare != "" {
		err = l.compared(ctx, r)
	} else {
		err = l.show(ctx, r)
	}
	var o exit.Outcome
	if err != nil && !errors.As(err, &o) {
		return exit.With(exit.Failed, fmt.Errorf("read the history in %s: %w", dir, err))
	}
	return err
}

func (l *looking) dismissed(dir string) error {
	switch err := reader.Dismiss(dir, l.dismiss); {
	case errors.Is(err, fs.ErrNotExist):
		return exit.Refuse("omnivigil: there is no trend %d; omnivigil history --trends lists them", l.dismiss)
	case err != nil:
		return exit.With(exit.Failed, err)
	}
	client.Say(os.Stdout, "Trend %d is dismissed.", l.dismiss)
	return nil
}

// checkUnits refuses names that the history does not have.
func (l *looking) checkUnits(ctx context.Context, r *reader.Reader) error {
	if len(l.query.Units) == 0 {
		return nil
	}
	all, err := r.History(ctx, past.Query{What: past.Units})
	if err != nil {
		return err
	}
	var names []string
	for _, u := range all.Units {
		names = append(names, u.Unit)
	}
	for _, unit := range l.query.Units {
		if !slices.Contains(names, unit) {
			return exit.Refuse("omnivigil: there is no unit %q in the history; %s", unit, suggest.Hint(unit, names))
		}
	}
	return nil
}

// show prints a part of the history.
func (l *looking) show(ctx context.Context, r *reader.Reader) error {
	q := l.query
	for kind, chosen := range l.what {
		if *chosen {
			q.What = kind
		}
	}
	if q.What == "" && len(q.Units) > 0 {
		q.What = past.Runs
	}
	h, err := r.History(ctx, q)
	if err == nil && q.What == "" { // the summary has both
		trends := q
		trends.What, trends.Count = past.Trends, max(q.Count, 10)
		var with past.History
		with, err = r.History(ctx, trends)
		h.Trends = with.Trends
	}
	if err != nil {
		return err
	}
	if l.asJSON {
		return client.PrintJSON(h)
	}
	for _, row := range lookback.Rows(h, time.Now()) {
		client.Say(os.Stdout, "%s", row)
	}
	return nil
}
