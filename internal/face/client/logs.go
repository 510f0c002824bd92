package client

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/face/lookback"
	"omnivigil/internal/face/plain"
	"omnivigil/internal/output/query"
	"omnivigil/internal/output/reader"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/text/suggest"
)

// logs is the command logs.
type logs struct {
	asking
	query    api.LineQuery
	units    []string
	most     int // the number of last lines
	filter   []string
	since    string
	session  string
	follow   bool
	sessions bool
	total    bool // only the number of lines
}

func logsCommand(of Settings) *cobra.Command {
	l := &logs{asking: asking{of: of}}
	c := l.flag(&cobra.Command{
		Use:   "logs [UNIT ...] [--only WORDS]",
		Short: "Print or search the output of the project or some units",
		Long: `Print the output of the running project or of some units; with --session, of an
earlier session.

--only filters lines with the same terms as the full screen: text, "text with
spaces", /an expression/, unit=NAME,NAME, run=N, ripple=N or ripple=last (what the
newest save set off), level=error, warning, info or debug, event=start, end, failure
or note. ! negates a term. Stack traces are printed in full.`,
		Example: `  omnivigil logs berths -f
  omnivigil logs --only 'level=warning !health' --since 10m
  omnivigil logs --only '/time(d )?out/ ripple=last' --count
  omnivigil logs --session last --only event=failure`,
		ValidArgsFunction: CompleteUnits(of),
		RunE: func(c *cobra.Command, units []string) error {
			if c.Flags().Changed("lines") && (l.since != "" || l.total) {
				return exit.Refuse(
					"omnivigil: -n is how many of the last lines; --since and --count are about all of them",
				)
			}
			return l.run(units)
		},
	})
	// -f follows here, as in every command of that name, so --file has no short form.
	of.Flag(c)
	c.Flags().BoolVarP(
		&l.follow,
		"follow",
		"f",
		false,
		"follow new output until the project ends",
	)
	c.Flags().IntVarP(&l.most, "lines", "n", api.DefaultLines, "number of last lines")
	c.Flags().StringVar(
		&l.since,
		"since",
		"",
		"all lines since then: a duration such as 10m, or a time of day such as 14:05",
	)
	c.Flags().StringArrayVar(&l.filter, "only", nil, "print only lines that match this filter (repeatable)")
	c.Flags().BoolVar(&l.query.Raw, "raw", false, RawUsage)
	c.Flags().BoolVar(&l.total, "count", false, "print only the count")
	c.Flags().StringVar(&l.session, "session", "", SessionUsage)
	c.Flags().BoolVar(&l.sessions, "sessions", false, "list the sessions that have a log")
	return c
}

// SessionUsage describes the flag --session.
const SessionUsage = "an earlier session: its number or name from logs --sessions, or last"

// RawUsage describes the flag --raw.
const RawUsage = "print lines as they were written, not what go test -json means"

func (l *logs) run(units []string) error {
	if l.most < 1 {
		return exit.Refuse("omnivigil: -n %d: it takes at least 1 line", l.most)
	}
	l.query.Filter, l.query.Last = strings.Join(l.filter, " "), true
	l.query.Count = min(l.most, api.MaxLines)
	if _, err := query.Parse(l.query.Filter); err != nil {
		return exit.Refuse("omnivigil: --only: %v", err)
	}
	switch l.units = units; {
	case len(units) == 1:
		l.query.Unit = units[0]
	case len(units) > 1:
		l.query.Filter = strings.TrimSpace("unit=" + strings.Join(units, ",") + " " + l.query.Filter)
	}
	if l.since != "" {
		at, err := lookback.Since(l.since, time.Now())
		if err != nil {
			return exit.Refuse("omnivigil: --since: %v", err)
		}
		l.query.Last, l.query.Since, l.query.Count = false, at, api.MaxLines
	}
	if l.total {
		l.query.Last, l.query.Count = false, api.MaxLines
	}
	switch {
	case l.sessions || l.session != "":
		return l.past()
	default:
		return l.on(func(ctx context.Context, p *apiclient.Client) error { return l.running(ctx, p) })
	}
}

// past prints the logs of ended sessions.
func (l *logs) past() error {
	if there, err := l.of.Remote(); err != nil || there != nil {
		return cmp.Or(err, errElsewhere)
	}
	file, err := l.of.FindRunning()
	if err != nil {
		return err
	}
	found := reader.Sessions(paths.Logs(file))
	if l.sessions {
		for i, s := range found {
			Say(os.Stdout, "%4d  %s", i+1, filepath.Base(s))
		}
		return nil
	}
	dir, err := SessionNamed(found, l.session)
	if err != nil {
		return err
	}
	return l.print(context.Background(), reader.Past(dir), plain.Format{Color: Colors()})
}

// running prints the log of the running project.
func (l *logs) running(ctx context.Context, p *apiclient.Client) error {
	snap, err := p.Snapshot(ctx)
	if err != nil {
		return err
	}
	for _, unit := range l.units {
		if snap.Unit(unit) == nil {
			return api.Refuse("there is no unit %q; %s", unit, suggest.Hint(unit, snap.UnitNames()))
		}
	}
	format := plain.For(snap, Colors())
	if l.follow {
		if l.query.Last {
			end, err := l.printLast(ctx, p, format)
			if err != nil {
				return err
			}
			l.query.Last, l.query.Count, l.query.From = false, api.MaxLines, end
		}
		return api.FollowLines(ctx, p, l.query, func(all []api.Line) error { return l.show(format, all) })
	}
	return l.print(ctx, p, format)
}

// printLast prints so many last lines, and returns the number after them. If there are fewer because older ones were
// deleted, it says so.
func (l *logs) printLast(ctx context.Context, log api.Log, format plain.Format) (end int64, err error) {
	var pages []api.LineQuery // newest first
	left, older := l.most, int64(0)
	for q := l.query; left > 0; {
		page, err := log.Lines(ctx, q)
		if err != nil {
			return 0, err
		}
		if end == 0 {
			end = page.Total
		}
		if older = page.First; len(page.Lines) == 0 {
			break
		}
		if len(pages) == 0 && len(page.Lines) == left {
			return end, l.show(format, page.Lines)
		}
		pages = append(
			pages,
			api.LineQuery{
				Filter: q.Filter,
				Unit:   q.Unit,
				Raw:    q.Raw,
				End:    page.Lines[len(page.Lines)-1].Number + 1,
				Count:  len(page.Lines),
			},
		)
		left -= len(page.Lines)
		if page.Lines[0].Number <= page.First {
			break
		}
		q.Last, q.End, q.Count = false, page.Lines[0].Number, min(left, api.MaxLines)
	}
	for _, q := range slices.Backward(pages) {
		page, err := log.Lines(ctx, q)
		if err == nil {
			err = l.show(format, page.Lines)
		}
		if err != nil {
			return 0, err
		}
	}
	if left > 0 && older > 0 {
		fmt.Fprintf(
			os.Stderr,
			"omnivigil: there are %d fewer lines than asked for: older ones were removed to keep the log within its "+
				"limits.\n",
			left,
		)
	}
	return end, nil
}

// print prints everything that is requested.
func (l *logs) print(ctx context.Context, log api.Log, format plain.Format) error {
	if l.query.Last {
		_, err := l.printLast(ctx, log, format)
		return err
	}
	total := 0
	for q := l.query; ; {
		page, err := log.Lines(ctx, q)
		if err != nil {
			return err
		}
		if total += len(page.Lines); !l.total {
			if err := l.show(format, page.Lines); err != nil {
				return err
			}
		}
		if len(page.Lines) == 0 {
			break
		}
		q.Since, q.From = time.Time{}, page.End
	}
	if l.total {
		fmt.Println(total)
	}
	return nil
}

func (l *logs) show(format plain.Format, all []api.Line) error {
	for _, line := range all {
		var err error
		if l.asJSON {
			err = PrintJSON(line)
		} else {
			_, err = fmt.Println(format.Line(line))
		}
		if err != nil {
			return err
		}
	}
	return nil
}
