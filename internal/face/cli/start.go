package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
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
	"omnivigil/internal/face/client/projects"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/store/consent"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/supervisor"
	"omnivigil/internal/supervisor/guard"
	"omnivigil/internal/text/escape"
)

type startOptions struct {
	show.Look
	trust      bool
	background bool
	// record is the file for a recording.
	record string
}

func (o *startOptions) flags(c *cobra.Command) {
	o.Look.Flags(c)
	c.Flags().BoolVar(
		&o.background,
		"background",
		false,
		"start the project without a screen and return; omnivigil attach shows it",
	)
	c.Flags().StringVar(
		&o.record,
		"record",
		"",
		"record events and decisions in this file, for a bug report; it contains names of files and commands, but "+
			"no values of variables",
	)
	c.Flags().BoolVar(&o.trust, "trust", false, "run this project's commands without asking")
}

func startCommand(at *location.Location) *cobra.Command {
	var opts startOptions
	c := &cobra.Command{
		Use:               "start [UNIT or GROUP ...]",
		Short:             "Start the project, or some units with everything they need",
		ValidArgsFunction: client.CompleteUnits(at),
		RunE:              func(_ *cobra.Command, units []string) error { return start(*at, opts, units) },
	}
	opts.flags(c)
	return c
}

func attachCommand(at *location.Location) *cobra.Command {
	var as show.Look
	c := &cobra.Command{
		Use:   "attach",
		Short: "Attach to a running project",
		Args:  cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			there, err := at.Remote()
			if err != nil {
				return err
			}
			if there != nil {
				return attachThere(there, as)
			}
			file, err := at.FindRunning()
			if err != nil && at.IsDefault() {
				return attachToOne(as, err)
			}
			if err != nil {
				return err
			}
			running, err := client.Reach(context.Background(), at)
			if err != nil {
				return err
			}
			place, err := paths.Place(file)
			if err != nil {
				return err
			}
			return show.Project(place, running, as)
		},
	}
	as.Flags(c)
	return c
}

// attachToOne attaches to a running project that the user selects, outside of any project. Outside is why none was
// found.
func attachToOne(as show.Look, outside error) error {
	all := projects.Running(context.Background())
	if len(all) == 0 {
		return outside
	}
	projects.Print(all)
	if !ask.CanAsk() {
		return exit.Refuse("\nomnivigil: cannot ask without a terminal. Attach in the directory of one of these.")
	}
	fmt.Printf("\nAttach to which of these? [1-%d] ", len(all))
	line, err := bufio.NewReader(os.Stdin).ReadString('\n')
	n, numberErr := strconv.Atoi(strings.TrimSpace(line))
	if err != nil || numberErr != nil || n < 1 || n > len(all) {
		return exit.Refuse("Nothing was attached.")
	}
	running, err := client.At(context.Background(), all[n-1].Place)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	return show.Project(all[n-1].Place, running, as)
}

// start starts a project and shows it until the user quits. If it is already running, it offers to attach.
func start(at location.Location, opts startOptions, units []string) error {
	there, err := at.Remote()
	if err != nil {
		return err
	}
	if there != nil {
		return startThere(there, opts, units)
	}
	p, err := at.Open()
	if err != nil {
		return err
	}
	units = at.Wanted(p, units)
	if _, unknown := p.WithNeeds(units); unknown != "" {
		return exit.Refuse("omnivigil: %s has no unit or group %q; %s", p.File, unknown, p.Hint(unknown))
	}
	place, err := paths.Place(p.File)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	if running, err := client.At(context.Background(), place); !errors.Is(err, socket.ErrNotRunning) {
		if err == nil {
			if err := agreeToMembers(p, running, opts.trust); err != nil {
				return err
			}
		}
		return startAgain(place, running, err, opts, units)
	}
	if err := ask.Consent(p, opts.trust); err != nil {
		return err
	}
	return startWith(place, p, opts, supervisor.Options{File: p.File, Units: units})
}

// agreeToMembers asks for consent to members that have appeared while the project runs, and has their settings read.
func agreeToMembers(p *plan.Plan, running *apiclient.Client, given bool) error {
	store := consent.In(paths.State())
	if !slices.ContainsFunc(p.Members, func(m plan.Member) bool { return !store.HasMember(p, m.Name) }) {
		return nil
	}
	if err := ask.Consent(p, given); err != nil {
		return err
	}
	if _, err := running.Do(context.Background(), api.Request{Action: api.ReadSettings}); err != nil {
		return exit.With(exit.Failed, err)
	}
	return nil
}

// startWith starts and shows a project that is not running, and that the user has agreed to.
func startWith(place socket.Place, p *plan.Plan, opts startOptions, o supervisor.Options) (err error) {
	ask.Leftovers(p)
	o.Agreed, o.Background = consent.Fingerprint(p), opts.background
	if opts.record != "" {
		if o.Record, err = filepath.Abs(opts.record); err != nil {
			return exit.Refuse("omnivigil: %v", err)
		}
	}
	running, err := launch(place, o)
	var runs *runsAlready
	switch {
	case errors.As(err, &runs):
		return startAgain(place, runs.running, nil, opts, o.Units)
	case err != nil:
		return err
	case opts.background:
		return sayBackground(running)
	}
	return show.Project(place, running, opts.Look)
}

// runsAlready is the error of a launch that came after another one.
type runsAlready struct{ running *apiclient.Client }

func (*runsAlready) Error() string { return "the project is already running" }

// launch starts a supervisor and returns its project.
func launch(place socket.Place, o supervisor.Options) (*apiclient.Client, error) {
	const patience, pause = time.Second, 50 * time.Millisecond
	told := false
	for began := time.Now(); ; time.Sleep(pause) {
		l, err := guard.Launch(o.Line())
		if err == nil {
			_, err = l.Outcome()
		}
		var failure *guard.Failure
		switch {
		case err == nil:
			running, err := client.At(context.Background(), place)
			if err != nil {
				return nil, exit.With(exit.Failed, err)
			}
			return running, nil
		case !errors.As(err, &failure):
			return nil, exit.With(exit.Failed, err)
		case failure.Code != exit.Locked:
			return nil, exit.Saying(failure.Code, "omnivigil: "+failure.Text)
		}
		// Another one was started at the same moment, or is just ending.
		if running, err := client.At(context.Background(), place); err == nil {
			if snap, err := running.Snapshot(context.Background()); err == nil && !snap.Quitting {
				return nil, &runsAlready{running}
			}
			running.Close()
		}
		if since := time.Since(began); since > patience && !told {
			told = true
			fmt.Fprintln(os.Stderr, "omnivigil: an earlier run of the project is still being stopped; waiting for it")
		} else if since > show.LongestEnd {
			return nil, exit.Saying(
				exit.Failed,
				"omnivigil: an earlier run of the project has not ended; see omnivigil status",
			)
		}
	}
}

// startAfterEnd waits until a project that is being stopped has ended, and starts it then.
func startAfterEnd(place socket.Place, running *apiclient.Client, opts startOptions, units []string) error {
	running.Close()
	fmt.Fprintln(os.Stderr, "omnivigil: an earlier run of the project is still being stopped; waiting for it")
	if !client.WaitGone(place, show.LongestEnd) {
		return exit.Saying(exit.Failed, "omnivigil: an earlier run of the project has not ended; see omnivigil status")
	}
	p, err := settings.ReadFor(place.File, filepath.Dir(place.File))
	if err != nil {
		return exit.With(exit.Usage, err)
	}
	if err := ask.Consent(p, opts.trust); err != nil {
		return err
	}
	return startWith(place, p, opts, supervisor.Options{File: p.File, Units: units})
}

// startAgain is start for a running project.
func startAgain(place socket.Place, running *apiclient.Client, err error, opts startOptions, units []string) error {
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	ctx := context.Background()
	snap, err := running.Snapshot(ctx)
	hasEnded := errors.Is(err, apiclient.ErrLost) || errors.Is(err, socket.ErrNotRunning)
	if err != nil && !hasEnded {
		return exit.With(exit.Failed, err)
	}
	if hasEnded || snap.Quitting {
		return startAfterEnd(place, running, opts, units)
	}
	fmt.Fprintln(os.Stderr, escape.Text(client.Seen(snap))+".")
	if len(units) > 0 {
		answer, err := running.Do(ctx, api.Request{Action: api.Start, Units: units})
		if err != nil {
			return exit.With(exit.Failed, err)
		}
		client.SayAnswer(answer)
	}
	switch {
	case opts.background || len(units) > 0 && !show.IsScreenPossible():
		return nil
	case !show.IsScreenPossible():
		return exit.Refuse("Nothing was started. Look at it with omnivigil attach.")
	}
	fmt.Print("Attach to it? [Y/n] ")
	if answer := ask.Answer(bufio.NewReader(os.Stdin)); answer != "" && answer != "y" {
		return nil
	}
	return show.Project(place, running, opts.Look)
}

// sayBackground reports that a project runs without a face.
func sayBackground(running *apiclient.Client) error {
	snap, err := running.Snapshot(context.Background())
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	fmt.Printf(
		"%s runs in the background. omnivigil attach shows it, omnivigil wait waits for it, omnivigil stop --all "+
			"ends it.\nLogs: %s\n",
		escape.Text(snap.Project.Name),
		snap.Project.Logs,
	)
	return nil
}

// keeperCommand restores a terminal; see guard.Keep.
func keeperCommand() *cobra.Command {
	return &cobra.Command{
		Use:    guard.KeeperCommand,
		Hidden: true,
		Run:    func(*cobra.Command, []string) { guard.Restore() },
	}
}
