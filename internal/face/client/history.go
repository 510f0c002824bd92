package client

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/past"
	"omnivigil/internal/store/history"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/suggest"
)

// looking is how a user looks at the history.
type looking struct {
	asking
	query   past.Query
	since   string
	what    map[past.Kind]*bool
	compare string
	dismiss int64
}

func historyCommand(of Settings) *cobra.Command {
	l := &looking{asking: asking{of: of}, what: map[past.Kind]*bool{}}
	c := l.flag(&cobra.Command{
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
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(c *cobra.Command, units []string) error {
			l.query.Units = units
			ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
			defer stop()
			return l.run(ctx, c.Flags().Changed("dismiss"))
		},
	})
	for kind, says := range map[past.Kind]string{
		past.Tests:   "tests, the most unreliable ones first",
		past.Ripples: "ripples, newest first",
		past.Trends:  "only trends, newest first",
	} {
		l.what[kind] = c.Flags().Bool(string(kind), false, says)
	}
	c.Flags().StringVar(&l.since, "since", "", "only what began since then: a duration such as 14d or 2h, or a date such as 2030-05-04")
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
	if l.query.Since, err = sinceOf(l.since, time.Now()); err != nil {
		return exit.Refuse("omnivigil: --since: %v", err)
	}
	if dismiss {
		return l.dismissed(dir)
	}
	r, err := history.Read(dir)
	if errors.Is(err, history.ErrNone) {
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
	switch err := history.Dismiss(dir, l.dismiss); {
	case errors.Is(err, fs.ErrNotExist):
		return exit.Refuse("omnivigil: there is no trend %d; omnivigil history --trends lists them", l.dismiss)
	case err != nil:
		return exit.With(exit.Failed, err)
	}
	Say(os.Stdout, "Trend %d is dismissed.", l.dismiss)
	return nil
}

// checkUnits refuses names that the history does not have.
func (l *looking) checkUnits(ctx context.Context, r *history.Reader) error {
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
func (l *looking) show(ctx context.Context, r *history.Reader) error {
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
		return PrintJSON(h)
	}
	sayHistory(os.Stdout, h, time.Now())
	return nil
}

// sayHistory prints what was asked for.
func sayHistory(w io.Writer, h past.History, now time.Time) {
	if len(h.Units)+len(h.Runs)+len(h.Ripples)+len(h.Tests)+len(h.Trends) == 0 {
		Say(w, "Nothing like that is in the history, which begins %s.", day(h.From, now))
		return
	}
	sayUnits(w, h, now)
	for _, run := range h.Runs {
		Say(w, "%-12s  %s run %d  %s", day(run.Began, now), run.Unit, run.Number, runLine(run))
	}
	for _, r := range h.Ripples {
		Say(w, "%-12s  %-8s %9s  %s%s", day(r.Since, now), r.Outcome, format.Duration(r.Took.Duration()), r.Title,
			revisionText(r.Revision))
	}
	for _, t := range h.Tests {
		Say(w, "%s", pastTestLine(t, now))
	}
	if len(h.Units) > 0 && len(h.Trends) > 0 {
		Say(w, "")
	}
	for _, t := range h.Trends {
		sayTrend(w, t, now)
	}
	if h.More {
		Say(w, "and more: -n shows more of them, --since fewer")
	}
}

// sayUnits prints a table of units.
func sayUnits(w io.Writer, h past.History, now time.Time) {
	if len(h.Units) == 0 {
		return
	}
	width := len("unit")
	for _, u := range h.Units {
		width = max(width, len(u.Unit))
	}
	Say(w, "%-*s  %6s  %6s  %12s  %12s  %12s  %s", width, "unit", "runs", "broken", "25 %", "median", "75 %", "last run")
	for _, u := range h.Units {
		took := func(s api.Seconds) string {
			if s == 0 {
				return "-"
			}
			return format.Duration(s.Duration())
		}
		Say(w, "%-*s  %6d  %6d  %12s  %12s  %12s  %s", width, u.Unit, u.Runs, u.Broken, took(u.Quarter), took(u.Median),
			took(u.Three), day(u.LastAt, now))
	}
}

// runLine is a run in one line: how it ended, why it ran, and what was checked out.
func runLine(r past.Run) string {
	text := r.Outcome
	if r.Took > 0 {
		text += " " + format.Duration(r.Took.Duration())
	}
	if api.State(r.Outcome).Broken() && r.Exit != "" {
		text += " (" + r.Exit + ")"
	}
	switch ran := r.Passed + r.Failed; {
	case r.Failed > 0:
		text += fmt.Sprintf(", %d of %s failed", r.Failed, format.Count(ran, "test"))
	case ran > 0:
		text += ", " + format.Count(ran, "test") + " passed"
	}
	if r.Loaded {
		text += ", under load"
	}
	if r.Because != "" {
		text += ": " + r.Because
	}
	return text + revisionText(r.Revision)
}

// revisionText is what was checked out, as a note.
func revisionText(r past.Revision) string {
	if r.Commit == "" {
		return ""
	}
	text := strings.TrimSpace(r.Branch + " " + short(r.Commit))
	if r.Clean != nil && !*r.Clean {
		text += ", with changes"
	}
	return "  (" + text + ")"
}

// short is a commit as people write it.
func short(commit string) string { return commit[:min(len(commit), 9)] }

// pastTestLine is a test in one line.
func pastTestLine(t past.Test, now time.Time) string {
	text := fmt.Sprintf("%s  %s: failed in %d of %s", t.Unit, t.Title(), t.Failed, format.Count(t.Runs, "run"))
	if t.Failed > 0 {
		text += fmt.Sprintf(" (%s to %s), last %s", format.Percent(t.Low), format.Percent(t.High), day(t.LastFailed, now))
	}
	if t.Flaky > 0 {
		text += fmt.Sprintf(", %s without a change", format.Count(t.Flaky, "time"))
	}
	if len(t.Coincides) > 0 {
		text += ", mostly with " + strings.Join(t.Coincides, " and ")
	}
	if t.Median > 0 {
		text += ", median " + format.Duration(t.Median.Duration())
	}
	return text
}

// sayTrend prints a trend, and what was saved and committed before it.
func sayTrend(w io.Writer, t past.Trend, now time.Time) {
	of := t.Unit
	if of == "" {
		of = strings.Join(t.Units, " and ")
	}
	if t.Test != "" || t.Suite != "" {
		of += " " + strings.TrimSpace(t.Suite+" "+t.Test)
	}
	dismissed := ""
	if t.Dismissed {
		dismissed = "  (dismissed)"
	}
	Say(w, "trend %d  %s  %s: %s%s", t.ID, day(t.Since, now), of, t.Text, dismissed)
	if len(t.Files) > 0 {
		Say(w, "         saved before: %s", format.ListOf(t.Files, len(t.Files)+t.MoreFiles))
	}
	if t.From != "" || t.To != "" {
		Say(w, "         commits: %s..%s", short(t.From), short(t.To))
	}
}

// day is a time that may be on another day, with the year if it is not this one.
func day(t, now time.Time) string {
	switch {
	case t.IsZero():
		return "never"
	case t.Year() != now.Year():
		return t.Format("2 Jan 2006")
	}
	return format.Moment(t, now)
}

// sinceOf reads a time: a duration before now, with days as "14d", or a date.
func sinceOf(text string, now time.Time) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if at, err := time.ParseInLocation(time.DateOnly, text, now.Location()); err == nil {
		return at, nil
	}
	var days int
	if n, err := fmt.Sscanf(text, "%dd", &days); n == 1 && err == nil && text == fmt.Sprintf("%dd", days) {
		return now.AddDate(0, 0, -days), nil
	}
	return moment(text, now)
}
