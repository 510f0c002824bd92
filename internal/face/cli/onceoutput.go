package cli

import (
	"context"
	"fmt"
	"io"
	"maps"
	"os"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/face/cli/summary"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/plain"
)

// oncePrinter prints lines as they come, or grouped by unit.
type oncePrinter struct {
	out     io.Writer
	format  plain.Format
	grouped bool
	units   []string // only their lines are printed; none: all lines
	held    map[string][]string
	ended   chan runEnd // the runs whose ends were printed, as long as there is a listener
}

type runEnd struct {
	unit string
	run  int
}

func newOncePrinter(snap *api.Snapshot, o onceOptions, units []string) *oncePrinter {
	p := &oncePrinter{
		out: os.Stdout, format: plain.For(snap, client.Colors()), grouped: o.grouped, units: units,
		held: map[string][]string{}, ended: make(chan runEnd, 1000),
	}
	p.format.Raw = o.raw
	return p
}

// follow prints the lines from a number on until the project has ended.
func (p *oncePrinter) follow(ctx context.Context, project api.Project, from int64) error {
	q := api.LineQuery{From: from, Count: api.MaxLines, Raw: p.format.Raw}
	err := api.FollowLines(ctx, project, q, func(lines []api.Line) error {
		for _, l := range lines {
			if err := p.print(l); err != nil {
				return err
			}
			if l.Stream == api.Ends {
				select {
				case p.ended <- runEnd{l.Unit, l.Run}:
				default: // there is no listener
				}
			}
		}
		return nil
	})
	for _, unit := range slices.Sorted(maps.Keys(p.held)) {
		p.release(unit)
	}
	return err
}

// until waits, with a timeout, until the ends of the units' runs are printed.
func (p *oncePrinter) until(snap *api.Snapshot, units []string) {
	awaited := map[runEnd]bool{}
	for _, name := range units {
		if u := snap.Unit(name); u != nil && !u.Run.EndedAt.IsZero() {
			awaited[runEnd{name, u.Run.Number}] = true
		}
	}
	for limit := time.After(5 * time.Second); len(awaited) > 0; {
		select {
		case end := <-p.ended:
			delete(awaited, end)
		case <-limit:
			return
		}
	}
}

func (p *oncePrinter) print(l api.Line) error {
	if len(p.units) > 0 && !slices.Contains(p.units, l.Unit) {
		return nil
	}
	if !p.grouped || l.Unit == "" {
		_, err := fmt.Fprintln(p.out, p.format.Line(l))
		return err
	}
	p.held[l.Unit] = append(p.held[l.Unit], p.format.Line(l))
	if l.Stream == api.Ends {
		return p.release(l.Unit)
	}
	return nil
}

// release prints the held lines of a unit.
func (p *oncePrinter) release(unit string) error {
	if len(p.held[unit]) == 0 {
		return nil
	}
	_, err := fmt.Fprintln(p.out, strings.Join(p.held[unit], "\n"))
	delete(p.held, unit)
	return err
}

// lastLines is how many lines of a failed run are printed again.
const lastLines = 12

// account prints how each unit has ended, and the last lines of the failed ones.
func (o onceOptions) account(snap *api.Snapshot, running *apiclient.Client, units []string, p *oncePrinter) {
	var ran []*api.Unit
	width, ends := 0, 0
	for _, u := range snap.Units {
		if slices.Contains(units, u.Name) || len(p.units) == 0 && u.Wanted {
			ran, width, ends = append(ran, u), max(width, len(u.Name)), max(ends, len(summary.End(u)))
		}
	}
	fmt.Fprintln(p.out)
	for _, u := range ran {
		client.Say(p.out, "  %-*s  %-*s  %s", width, u.Name, ends, summary.End(u), summary.Took(u))
	}
	for _, u := range ran {
		if !u.State.Broken() {
			continue
		}
		client.Say(p.out, "\n%s %s, its last lines:", u.Name, summary.End(u))
		for _, l := range lastOf(running, u) {
			fmt.Fprintln(p.out, "  "+plain.Text(l, p.format.Color))
		}
	}
}

// lastOf returns the lines that most likely tell why a run has failed. The project may have ended, so they are read
// from the log's files.
func lastOf(running *apiclient.Client, u *api.Unit) []api.Line {
	page, err := running.Lines(
		context.Background(),
		api.LineQuery{Unit: u.Name, Run: u.Run.Number, Why: true, Count: lastLines},
	)
	if err != nil {
		return nil
	}
	return page.Lines
}
