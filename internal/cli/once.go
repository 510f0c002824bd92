package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	"omnivigil/internal/ask"
	"omnivigil/internal/concern"
	"omnivigil/internal/exit"
	"omnivigil/internal/home"
	"omnivigil/internal/phrase"
	"omnivigil/internal/plain"
	"omnivigil/internal/plan"
	"omnivigil/internal/supervise"
	"omnivigil/internal/trust"
	"omnivigil/internal/visible"
)

type onceOptions struct {
	units   []string
	words   []string
	paths   []string
	grouped bool
	apart   bool
	trust   bool
}

func onceCommand(at *location) *cobra.Command {
	var o onceOptions
	c := &cobra.Command{
		Use:   "once UNIT or GROUP... [-- ARG...]",
		Short: "Run tasks or suites once, with all they need, and exit as they did",
		Long: `Runs tasks and suites with all they need to their end, side by side as far as "jobs" allows,
and exits with the code of the first that failed. Services that are needed are started,
waited for, and stopped at the end. What comes after -- is added to the unit's command.

With --for it runs what a save of these paths would run, and nothing else: for a hook before
a commit, or an editor's key. It looks at the files as they are in the folder, not at what
version control has of them, and never waits for version control's lock.

A project that runs already does it itself, unless you say --apart.`,
		ValidArgsFunction: ask.CompleteUnits(at),
		Args: func(c *cobra.Command, words []string) error {
			o.units = words
			if dash := c.ArgsLenAtDash(); dash >= 0 {
				o.units, o.words = words[:dash], words[dash:]
			}
			switch {
			case len(o.units) == 0 && len(o.paths) == 0:
				return exit.Refuse("omnivigil: name what is to run: omnivigil once UNIT, or omnivigil once --for PATH")
			case len(o.units) > 0 && len(o.paths) > 0:
				return exit.Refuse("omnivigil: --for finds the units itself: name units or paths, not both")
			case len(o.words) > 0 && len(o.units) != 1:
				return exit.Refuse("omnivigil: the words after -- are for one unit: name one")
			}
			return nil
		},
		RunE: func(*cobra.Command, []string) error { return once(*at, o) },
	}
	f := c.Flags()
	f.StringArrayVar(&o.paths, "for", nil, "run what a save of this path would run; may be repeated")
	f.BoolVar(&o.grouped, "grouped", false, "print the output of each unit in one piece, when it has ended")
	f.BoolVar(&o.apart, "apart", false, "run them here, even where the project runs")
	f.BoolVar(&o.trust, "trust", false, "run this project's commands without asking")
	return c
}

// once runs units to their end.
func once(at location, o onceOptions) error {
	p, err := at.open()
	if err != nil {
		return err
	}
	units, err := o.named(p)
	if err != nil || len(units) == 0 {
		return err
	}
	place, err := home.Place(p.File)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	if !o.apart {
		switch client, err := ask.At(context.Background(), place); {
		case err == nil:
			return onceByRunning(client, o, units)
		case !errors.Is(err, api.ErrNotRunning):
			return exit.With(exit.Failed, err)
		}
	}
	if err := consent(p, o.trust); err != nil {
		return err
	}
	how := supervise.Options{
		File: p.File, Units: units, Words: o.words, For: absolute(o.paths), Once: true,
		Apart: "once-" + strconv.Itoa(os.Getpid()), Agreed: trust.Fingerprint(p),
	}
	if place, err = how.Place(); err != nil {
		return exit.With(exit.Failed, err)
	}
	client, err := launch(place, how)
	if err != nil {
		return err
	}
	return onceHere(place, client, o, units)
}

// named returns the tasks and suites that are to run: those named, or those that a save of
// paths would run. Without any it says so.
func (o onceOptions) named(p *plan.Plan) ([]string, error) {
	var units []string
	add := func(u *plan.Unit) {
		if u != nil && u.Kind.Ends() && !slices.Contains(units, u.Name) {
			units = append(units, u.Name)
		}
	}
	for _, name := range o.units {
		members := p.Members(name)
		if members == nil {
			hint := ""
			if near := p.Suggest(name); near != "" {
				hint = fmt.Sprintf("; did you mean %q?", near)
			}
			return nil, exit.Refuse("omnivigil: %s has no unit or group %q%s", p.File, name, hint)
		}
		for _, m := range members {
			add(p.Unit(m))
		}
		if len(members) == 1 && len(units) == 0 {
			return nil, exit.Refuse("omnivigil: %s is a service and does not end; once is for tasks and suites. Start it with omnivigil start %s", name, name)
		}
	}
	for _, path := range absolute(o.paths) {
		for _, step := range concern.Why(p, path).Order {
			add(p.Unit(step.Unit))
		}
	}
	if len(units) == 0 && len(o.paths) == 0 {
		return nil, exit.Refuse("omnivigil: there is no task or suite in %s", phrase.List(o.units))
	}
	if len(units) == 0 && len(o.paths) > 0 {
		fmt.Printf("No task or suite would run on a save of %s. omnivigil why PATH says why.\n", visible.Text(phrase.List(o.paths)))
	} else if len(o.paths) > 0 {
		fmt.Printf("%s, with the files as they are in the folder\n", visible.Text("For "+phrase.List(o.paths)+": "+phrase.List(units)))
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

// onceHere sees units run to their end in a project that was started for it.
func onceHere(place api.Place, client *api.Client, o onceOptions, units []string) error {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	first, err := client.Snapshot(ctx)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	f := &face{project: client, place: place, began: time.Now()}
	f.last.Store(first)
	f.ending = f.endOnSignal(stop)
	var rested atomic.Pointer[api.Snapshot] // the project when all had come to rest
	printer := newOncePrinter(first, o.grouped, nil)
	go func() {
		if snap := untilOver(ctx, client, units, 1, isOver); snap != nil {
			rested.Store(snap)
			printer.until(snap, units) // it may not have begun to follow
		}
		client.Do(ctx, api.Request{Action: api.End})
	}()
	inTime(f.ending.urgent, func() { err = printer.follow(ctx, client, 0) })
	snap := rested.Load()
	switch {
	case f.ending.asked() || snap == nil && err == nil:
		ask.WaitGone(place, 5*time.Second)
		return exit.Quietly(exit.Interrupted)
	case snap == nil:
		return exit.With(exit.Failed, err)
	}
	o.account(snap, client, units, printer)
	ask.WaitGone(place, 5*time.Second)
	return codeOf(snap, units)
}

// onceByRunning has a project that runs run units, and shows their output until they have ended.
func onceByRunning(client *api.Client, o onceOptions, units []string) error {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	first, err := client.Snapshot(ctx)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	fmt.Printf("%s runs already and does it.\n", visible.Text(first.Project.Name))
	printer := newOncePrinter(first, o.grouped, units)
	followed := make(chan error, 1)
	go func() { followed <- printer.follow(ctx, client, first.Lines) }()
	request := api.Request{Action: api.Restart, Units: units}
	if len(o.words) > 0 {
		request.Action, request.Words = api.RunWith, o.words
	}
	answer, err := client.Do(ctx, request)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	snap := untilOver(ctx, client, units, answer.Ripple, func(u *api.Unit) bool {
		return isOver(u) && (u.Run.Number > first.Unit(u.Name).Run.Number || !u.Moving)
	})
	if snap == nil {
		return exit.Saying(exit.Failed, "omnivigil: the project has ended before all had run")
	}
	printer.until(snap, units)
	stop()
	<-followed
	o.account(snap, client, units, printer)
	return codeOf(snap, units)
}

// isOver reports whether a unit's run is over, or will not begin. Writings that have not come to
// rest do not count: under version control's lock they never do.
func isOver(u *api.Unit) bool {
	if u.Run.Number == 0 || u.Queued || u.InLine {
		return !u.Moving
	}
	return !u.Run.EndedAt.IsZero() && u.State != api.Waiting || !u.Moving
}

// untilOver waits until that holds for all the units, once a ripple has begun, and returns the
// project as it is then, nil where it has ended before.
func untilOver(ctx context.Context, client *api.Client, units []string, ripple int, over func(*api.Unit) bool) (found *api.Snapshot) {
	errFound := errors.New("found")
	client.Follow(ctx, api.Face{}, func(snap *api.Snapshot) error {
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

// oncePrinter prints lines as they come, or those of each unit in one piece.
type oncePrinter struct {
	out     io.Writer
	format  plain.Format
	grouped bool
	units   []string // whose lines alone are printed; none: all
	held    map[string][]string
	ended   chan runEnd // runs whose ends are printed, as far as somebody hears of them
}

type runEnd struct {
	unit string
	run  int
}

func newOncePrinter(snap *api.Snapshot, grouped bool, units []string) *oncePrinter {
	return &oncePrinter{
		out: os.Stdout, format: plain.For(snap, ask.Colours()), grouped: grouped, units: units,
		held: map[string][]string{}, ended: make(chan runEnd, 1000),
	}
}

// follow prints the lines from a number on until the project has ended.
func (p *oncePrinter) follow(ctx context.Context, project api.Project, from int64) error {
	err := api.FollowLines(ctx, project, api.LineQuery{From: from, Count: api.MostLines}, func(lines []api.Line) error {
		for _, l := range lines {
			if err := p.print(l); err != nil {
				return err
			}
			if l.Stream == api.Ends {
				select {
				case p.ended <- runEnd{l.Unit, l.Run}:
				default: // nobody waits for it
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

// until waits until the ends of the units' runs are printed, but not for ever.
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

// release prints what was held of a unit.
func (p *oncePrinter) release(unit string) error {
	if len(p.held[unit]) == 0 {
		return nil
	}
	_, err := fmt.Fprintln(p.out, strings.Join(p.held[unit], "\n"))
	delete(p.held, unit)
	return err
}

// lastLines is how many lines of a run that failed are told again.
const lastLines = 12

// account says how each unit has ended, and of those that failed the last lines again.
func (o onceOptions) account(snap *api.Snapshot, client *api.Client, units []string, p *oncePrinter) {
	var ran []*api.Unit
	width, ends := 0, 0
	for _, u := range snap.Units {
		if slices.Contains(units, u.Name) || len(p.units) == 0 && u.Wanted {
			ran, width, ends = append(ran, u), max(width, len(u.Name)), max(ends, len(endOf(u)))
		}
	}
	fmt.Fprintln(p.out)
	for _, u := range ran {
		ask.Say(p.out, "  %-*s  %-*s  %s", width, u.Name, ends, endOf(u), tookOf(u))
	}
	for _, u := range ran {
		if !u.State.Broken() {
			continue
		}
		ask.Say(p.out, "\n%s %s, its last lines:", u.Name, endOf(u))
		for _, l := range lastOf(client, u) {
			fmt.Fprintln(p.out, "  "+plain.Text(l, p.format.Colour))
		}
	}
}

// lastOf returns what is most likely to say why a run has failed. The project may have ended,
// so the log is read where it lies.
func lastOf(client *api.Client, u *api.Unit) []api.Line {
	page, err := client.Lines(context.Background(), api.LineQuery{Unit: u.Name, Run: u.Run.Number, Why: true, Count: lastLines})
	if err != nil {
		return nil
	}
	return page.Lines
}

// endOf says how a unit has ended, or why it has not begun.
func endOf(u *api.Unit) string {
	switch {
	case u.State == api.Done && !u.Run.ReusedAt.IsZero():
		return "done, reused of " + u.Run.ReusedAt.Format("2 Jan 15:04")
	case u.State.Broken() && u.Run.Problem != "":
		return string(u.State) + " (" + u.Run.Problem + ")"
	case u.State.Broken() && u.Run.Exit != nil:
		return string(u.State) + " (" + u.Run.Exit.Text + ")"
	case u.Run.Number == 0 && u.Why != "":
		return "not run: " + u.Why
	case u.Run.Number == 0:
		return "not run"
	case u.State == api.Ready:
		return "was ready"
	}
	return string(u.State)
}

func tookOf(u *api.Unit) string {
	switch r := u.Run; {
	case r.Number == 0 || !r.ReusedAt.IsZero():
		return ""
	case !r.EndedAt.IsZero():
		return phrase.Duration(r.EndedAt.Sub(r.OrderedAt))
	case !r.ReadyAt.IsZero():
		return phrase.Duration(r.ReadyAt.Sub(r.OrderedAt))
	}
	return ""
}

// codeOf is the exit code of the first of all that failed; 1 where something else kept a unit
// from being done.
func codeOf(snap *api.Snapshot, units []string) error {
	var first *api.Unit
	fine := true
	for _, u := range snap.Units {
		if slices.Contains(units, u.Name) && (u.State != api.Done || u.Freshness == api.Stale) {
			fine = false
		}
		if u.State.Broken() && (first == nil || u.Run.EndedAt.Before(first.Run.EndedAt)) {
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
