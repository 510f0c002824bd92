package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/cli/ask"
	"omnivigil/internal/face/cli/location"
	"omnivigil/internal/face/cli/show"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/export"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/supervisor"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
	"omnivigil/internal/watch/repository"
)

type onceOptions struct {
	units   []string
	words   []string
	paths   []string
	staged  bool
	grouped bool
	raw     bool
	apart   bool
	trust   bool
	junit   string // the file for the results of tests
}

func onceCommand(at *location.Location) *cobra.Command {
	var o onceOptions
	c := &cobra.Command{
		Use:   "once UNIT or GROUP... [-- ARG...]",
		Short: "Run tasks or suites once and exit with their status",
		Long: `Run tasks and suites with everything they need, up to "jobs" at once, and exit with
the status of the first that failed. Needed services are started first and stopped
at the end. The arguments after -- are added to the unit's command.

With --for, run only what a save of these paths would run, for an editor's key; with
--for -, of the paths on standard input, separated by zero bytes. With --staged, run
what a save of the files staged in git would run, for a commit hook. The command reads
the files in the directory, not in the index of version control, and never waits for
the lock of version control.

If the project is running, its supervisor runs the units, unless --apart is given.`,
		ValidArgsFunction: client.CompleteUnits(at),
		Args: func(c *cobra.Command, words []string) error {
			o.units = words
			if dash := c.ArgsLenAtDash(); dash >= 0 {
				o.units, o.words = words[:dash], words[dash:]
			}
			switch {
			case len(o.units) == 0 && len(o.paths) == 0 && !o.staged:
				return exit.Refuse("omnivigil: name what is to run: omnivigil once UNIT, or omnivigil once --for PATH")
			case len(o.units) > 0 && (len(o.paths) > 0 || o.staged) || o.staged && len(o.paths) > 0:
				return exit.Refuse("omnivigil: name either units, or paths with --for, or --staged")
			case len(o.words) > 0 && len(o.units) != 1:
				return exit.Refuse("omnivigil: the words after -- are for one unit: name one")
			}
			return nil
		},
		RunE: func(*cobra.Command, []string) error { return once(*at, o) },
	}
	f := c.Flags()
	f.StringArrayVar(&o.paths, "for", nil, "run what a save of this path would run (repeatable)")
	f.BoolVar(&o.staged, "staged", false, "run what a save of the files staged in git would run")
	f.BoolVar(&o.grouped, "grouped", false, "print each unit's output in one piece when it exits")
	f.BoolVar(&o.raw, "raw", false, client.RawUsage)
	f.StringVar(&o.junit, "junit", "", "write test results to this file as JUnit XML")
	f.BoolVar(&o.apart, "apart", false, "use a separate supervisor even if the project is running")
	f.BoolVar(&o.trust, "trust", false, "run this project's commands without asking")
	return c
}

// once runs units to their end.
func once(at location.Location, o onceOptions) error {
	p, err := at.Open()
	if err != nil {
		return err
	}
	if err := o.findPaths(p); err != nil {
		return err
	}
	if o.staged && len(o.paths) == 0 {
		fmt.Println("Nothing is staged.")
		return nil
	}
	units, err := o.named(p)
	if err != nil || len(units) == 0 {
		return err
	}
	place, err := paths.Place(p.File)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	if !o.apart {
		switch running, err := client.At(context.Background(), place); {
		case err == nil:
			return onceByRunning(running, o, units)
		case !errors.Is(err, socket.ErrNotRunning):
			return exit.With(exit.Failed, err)
		}
	}
	if err := ask.Consent(p, o.trust); err != nil {
		return err
	}
	how := supervisor.Options{
		File: p.File, Units: units, Words: o.words, For: absolute(o.paths), Once: true,
		Apart: "once-" + strconv.Itoa(os.Getpid()), Agreed: consent.Fingerprint(p),
	}
	if place, err = how.Place(); err != nil {
		return exit.With(exit.Failed, err)
	}
	running, err := launch(place, how)
	if err != nil {
		return err
	}
	return onceHere(place, running, o, units)
}

// findPaths completes the paths: from standard input, or from what is staged. A path that does not exist is an error,
// except for one that is staged to be removed.
func (o *onceOptions) findPaths(p *plan.Plan) error {
	if o.staged {
		staged, differing, err := repository.Staged(p.Root)
		if err != nil {
			return exit.With(exit.Failed, err)
		}
		for _, name := range staged {
			o.paths = append(o.paths, filepath.Join(p.Root, name))
		}
		if len(differing) > 0 {
			fmt.Printf("%s not as staged; the files in the directory are used: %s\n",
				format.Count(len(differing), "file"), escape.Text(format.List(differing)))
		}
		return nil
	}
	if slices.Equal(o.paths, []string{"-"}) {
		input, err := io.ReadAll(os.Stdin)
		if err != nil {
			return exit.With(exit.Failed, fmt.Errorf("read paths from standard input: %w", err))
		}
		o.paths = strings.FieldsFunc(string(input), func(r rune) bool { return r == 0 })
	}
	for _, path := range o.paths {
		if _, err := os.Lstat(path); err != nil {
			return exit.Refuse("omnivigil: --for: %s does not exist", path)
		}
	}
	return nil
}

// named returns the tasks and suites to run: the named ones, or those that a save of paths would run. It is an error
// if there are none.
func (o onceOptions) named(p *plan.Plan) ([]string, error) {
	var units []string
	add := func(u *plan.Unit) {
		if u != nil && u.Kind.Ends() && !slices.Contains(units, u.Name) {
			units = append(units, u.Name)
		}
	}
	for _, name := range o.units {
		members := p.Expand(name)
		if members == nil {
			return nil, exit.Refuse("omnivigil: %s has no unit or group %q; %s", p.File, name, p.Hint(name))
		}
		for _, m := range members {
			add(p.Unit(m))
		}
		if len(members) == 1 && len(units) == 0 {
			return nil, exit.Refuse(
				"omnivigil: %s is a service and does not end; once is for tasks and suites. Start it with omnivigil "+
					"start %s",
				name,
				name,
			)
		}
	}
	for _, path := range absolute(o.paths) {
		for _, step := range impact.Why(p, path).Order {
			add(p.Unit(step.Unit))
		}
	}
	if len(units) == 0 && len(o.paths) == 0 {
		return nil, exit.Refuse("omnivigil: there is no task or suite in %s", format.List(o.units))
	}
	if len(units) == 0 && len(o.paths) > 0 {
		fmt.Printf(
			"No task or suite would run on a save of %s. omnivigil why PATH says why.\n",
			escape.Text(format.List(o.paths)),
		)
	} else if len(o.paths) > 0 {
		fmt.Printf(
			"%s, with the files as they are now\n",
			escape.Text("For "+format.List(o.paths)+": "+format.List(units)),
		)
	}
	return units, nil
}

func absolute(paths []string) []string {
	out := make([]string, len(paths))
	for i, path := range paths {
		out[i] = path
		if abs, err := filepath.Abs(path); err == nil {
			out[i] = abs
		}
	}
	return out
}

// onceHere runs units to their end in a project that was started for that.
func onceHere(place socket.Place, running *apiclient.Client, o onceOptions, units []string) error {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	first, err := running.Snapshot(ctx)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	ending := show.OnSignal(place, running, first, stop)
	var rested atomic.Pointer[api.Snapshot] // the project when everything was at rest
	printer := newOncePrinter(first, o, nil)
	var written error // set before rested
	go func() {
		if snap := untilOver(ctx, running, units, 1, isOver); snap != nil {
			written = o.writeJUnit(ctx, running, units)
			rested.Store(snap)
			printer.until(snap, units) // it may not be following yet
		}
		running.Do(ctx, api.Request{Action: api.End})
	}()
	ending.InTime(func() { err = printer.follow(ctx, running, 0) })
	snap := rested.Load()
	switch {
	case ending.Asked() || snap == nil && err == nil:
		client.WaitGone(place, 5*time.Second)
		return exit.Quietly(exit.Interrupted)
	case snap == nil:
		return exit.With(exit.Failed, err)
	}
	o.account(snap, running, units, printer)
	client.WaitGone(place, 5*time.Second)
	return cmp.Or(written, codeOf(snap, units))
}

// writeJUnit writes the results of the units' tests, if requested.
func (o onceOptions) writeJUnit(ctx context.Context, running *apiclient.Client, units []string) error {
	if o.junit == "" {
		return nil
	}
	r, err := export.ResultsOf(ctx, running, units)
	if err == nil {
		err = export.ResultsFile(r, export.JUnit, o.junit)
	}
	if err != nil {
		return exit.With(exit.Failed, fmt.Errorf("write the results of tests: %w", err))
	}
	return nil
}

// onceByRunning lets a running project run units, and shows their output until they have ended.
func onceByRunning(running *apiclient.Client, o onceOptions, units []string) error {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	first, err := running.Snapshot(ctx)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	fmt.Printf("%s is already running; using it.\n", escape.Text(first.Project.Name))
	printer := newOncePrinter(first, o, units)
	followed := make(chan error, 1)
	go func() { followed <- printer.follow(ctx, running, first.Lines) }()
	request := api.Request{Action: api.Restart, Units: units, For: absolute(o.paths)}
	if len(o.words) > 0 {
		request.Action, request.Words = api.RunWith, o.words
	}
	answer, err := running.Do(ctx, request)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	snap := untilOver(ctx, running, units, answer.Ripple, func(u *api.Unit) bool {
		before := first.Unit(u.Name) // nil: an edit of the settings has just added it
		return isOver(u) && (before == nil || u.Run.Number > before.Run.Number || !u.Moving)
	})
	if snap == nil {
		return exit.Saying(exit.Failed, "omnivigil: the project has ended before all had run")
	}
	printer.until(snap, units)
	written := o.writeJUnit(ctx, running, units)
	stop()
	<-followed
	o.account(snap, running, units, printer)
	return cmp.Or(written, codeOf(snap, units))
}

// isOver reports whether a unit's run is over, or will not begin. Files that have not settled do not count: under
// version control's lock they never do.
func isOver(u *api.Unit) bool {
	if u.Run.Number == 0 || u.Queued || u.InLine {
		return !u.Moving
	}
	return !u.Run.EndedAt.IsZero() && u.State != api.Waiting || !u.Moving
}

// untilOver waits until that is true for all units, once a ripple has begun, and returns the project then; nil: it
// has ended before.
func untilOver(
	ctx context.Context,
	running *apiclient.Client,
	units []string,
	ripple int,
	over func(*api.Unit) bool,
) (found *api.Snapshot) {
	errFound := errors.New("found")
	running.Follow(ctx, api.Face{}, func(snap *api.Snapshot) error {
		begun := len(snap.Ripples) > 0 && snap.Ripples[len(snap.Ripples)-1].ID >= ripple
		for _, name := range units {
			if u := snap.Unit(name); u != nil && !(begun && over(u)) {
				return nil
			}
		}
		found = snap
		return errFound
	})
	return found
}

// codeOf is the exit status of the first failed unit, or of what prevents the units from being done; 1 if that has
// none.
func codeOf(snap *api.Snapshot, units []string) error {
	var first *api.Unit
	fine := true
	for _, u := range snap.Units {
		among := slices.Contains(units, u.Name)
		fine = fine && (!among || u.State == api.Done && u.Freshness != api.Stale)
		if !u.State.Broken() {
			continue
		}
		closer := first != nil && among && !slices.Contains(units, first.Name)
		earlier := first != nil && among == slices.Contains(units, first.Name) &&
			u.Run.EndedAt.Before(first.Run.EndedAt)
		if first == nil || closer || earlier {
			first = u
		}
	}
	switch {
	case fine:
		return nil
	case first != nil && first.Run.Exit != nil && first.Run.Exit.Code > 0:
		return exit.Quietly(first.Run.Exit.Code)
	}
	return exit.Quietly(exit.Failed)
}
