// Package exporting has the command that writes a project's output, results, drawings and history in open formats.
package exporting

import (
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/otlp"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/export"
	"omnivigil/internal/output/query"
	"omnivigil/internal/text/format"
)

// exporting writes a project's contents in an open format.
type exporting struct {
	of           client.Settings
	format, file string
	filter       []string
	units        []string
	ripple       string
	session      string
	span         time.Duration
	measures     []string
	days         int // 0: the charts of a session
}

// Command returns the command export.
func Command(of client.Settings) *cobra.Command {
	x := &exporting{of: of}
	kinds := map[string]func() error{
		"stream":  x.stream,
		"results": x.results,
		"lanes":   x.lanes,
		"ripple":  x.rippleDrawing,
		"map":     x.mapDrawing,
		"charts":  x.charts,
		"history": x.historyLines,
		"traces":  x.traces,
	}
	names := slices.Sorted(maps.Keys(kinds))
	c := &cobra.Command{
		Use:   "export " + strings.Join(names, "|") + " [--format FORMAT] [-o FILE]",
		Short: "Export the running project or its newest session in an open format",
		Long: `"export stream" writes the output as text, JSON lines or HTML. "export results" writes
tests as JUnit XML or TAP, findings as SARIF, or both as JSON lines.

"export lanes", "ripple", "map" and "charts" write what the full screen shows as SVG
or PDF, or the underlying data as JSON; charts also as CSV. "export charts --days 30"
has the charts over days, and "export history" writes runs, ripples, tests and trends
of all sessions as JSON lines. "export traces" writes each ripple as an OpenTelemetry
trace, a line of OTLP in JSON.`,
		Example: `  omnivigil export stream -o output.html
  omnivigil export stream --only 'unit=berths level=warning' --format json
  omnivigil export results --format sarif -o findings.sarif
  omnivigil export ripple --ripple 12 -o ripple.svg
  omnivigil export lanes --span 30m -o lanes.pdf
  omnivigil export charts --measures cpu,memory -o use.csv`,
		Args:      cobra.MatchAll(cobra.ExactArgs(1), cobra.OnlyValidArgs),
		ValidArgs: names,
		RunE:      func(_ *cobra.Command, args []string) error { return kinds[args[0]]() },
	}
	of.Flag(c)
	c.Flags().StringVar(
		&x.format,
		"format",
		"",
		`of a stream text, json (an object a line) or html; of results junit, tap, sarif or json; of drawings svg, `+
			`pdf or json, of charts csv too; else as the file's name says`,
	)
	c.Flags().StringVarP(&x.file, "output", "o", "", "output file, which must not exist (default: standard output)")
	c.Flags().StringSliceVar(&x.units, "units", nil, "only these units or groups (for a stream, use --only)")
	c.Flags().StringArrayVar(&x.filter, "only", nil, "of a stream: filter, as in omnivigil logs")
	c.Flags().StringVar(&x.ripple, "ripple", client.Last, "number of the ripple, or last: that of the newest save")
	c.Flags().StringVar(&x.session, "session", "", client.SessionUsage)
	c.Flags().DurationVar(
		&x.span,
		"span",
		0,
		"of lanes and charts: duration up to now or the end of the session (default: the whole session)",
	)
	c.Flags().IntVar(&x.days, "days", 0, "of charts: so many days, across sessions")
	c.Flags().StringSliceVar(&x.measures, "measures", nil,
		"of charts: cpu, memory, output, durations, rest (default: all)")
	return c
}

// traces writes each ripple that has come to rest as a trace.
func (x *exporting) traces() error {
	log, snap, err := x.source()
	if err != nil {
		return err
	}
	defer log.Close()
	return x.into(func(w io.Writer) error {
		out := json.NewEncoder(w)
		for _, r := range snap.Ripples {
			if r.Resting() {
				if err := out.Encode(otlp.Of(snap.Project, r)); err != nil {
					return err
				}
			}
		}
		return nil
	})
}

// stream writes the output.
func (x *exporting) stream() error {
	filter := strings.Join(x.filter, " ")
	if _, err := query.Parse(filter); err != nil {
		return exit.Refuse("omnivigil: --only: %v", err)
	}
	if x.format == "" {
		x.format = export.FormatOf(x.file)
	}
	if !export.Known(x.format) {
		return exit.Refuse("omnivigil: --format must be text, json or html, not %q", x.format)
	}
	log, snap, err := x.source()
	if err != nil {
		return err
	}
	defer log.Close()
	if x.file == "" {
		_, err = export.Stream(context.Background(), log, snap, export.Part{Filter: filter}, x.format, os.Stdout)
	} else {
		var n int
		if n, err = export.StreamFile(
			context.Background(),
			log,
			snap,
			export.Part{Filter: filter},
			x.format,
			x.file,
		); err == nil {
			fmt.Printf("%d lines written to %s\n", n, x.file)
		}
	}
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	return nil
}

// results writes tests and findings.
func (x *exporting) results() error {
	if x.format == "" {
		x.format = export.ResultsFormatOf(x.file)
	}
	from, _, err := x.source()
	if err != nil {
		return err
	}
	defer from.Close()
	r, err := export.ResultsOf(context.Background(), from, x.units)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	if x.file == "" {
		err = export.WriteResults(r, x.format, os.Stdout)
	} else if err = export.ResultsFile(r, x.format, x.file); err == nil {
		fmt.Printf(
			"%s and %s written to %s\n",
			format.Count(len(r.Cases), "test"),
			format.Count(len(r.Findings), "finding"),
			x.file,
		)
	}
	if err != nil {
		return exit.Refuse("omnivigil: %v", err)
	}
	return nil
}

// source is a session that is read.
type source interface {
	api.Record
	Close()
}

// source returns the running project or, if it is not running or a session is named, a session that has ended.
func (x *exporting) source() (source, *api.Snapshot, error) {
	file, err := x.of.FindRunning()
	if err != nil {
		return nil, nil, err
	}
	ctx := context.Background()
	if x.session == "" {
		p, err := client.Connect(ctx, file)
		if err == nil {
			snap, err := p.Snapshot(ctx)
			if err != nil {
				return nil, nil, exit.With(exit.Failed, err)
			}
			return p, snap, nil
		}
		if !errors.Is(err, socket.ErrNotRunning) {
			return nil, nil, exit.With(exit.Failed, err)
		}
	}
	e, err := client.EndedSession(ctx, x.of, cmp.Or(x.session, client.Last))
	if err != nil {
		return nil, nil, err
	}
	snap, err := e.Snapshot(ctx)
	return e, snap, err
}
