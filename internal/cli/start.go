package cli

import (
	"bufio"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"strings"
	"syscall"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"omnivigil/internal/engine"
	"omnivigil/internal/guard"
	"omnivigil/internal/plain"
	"omnivigil/internal/plan"
	"omnivigil/internal/session"
	"omnivigil/internal/trust"
	"omnivigil/internal/tui"
)

type startOptions struct {
	plain bool
	trust bool
	// record is a file for the engine's events, to be replayed.
	record string
}

func (o *startOptions) flags(c *cobra.Command) {
	c.Flags().BoolVar(&o.plain, "plain", false, "print one interleaved stream instead of the full screen")
	c.Flags().StringVar(&o.record, "record", "", "write what happens and what is decided into this file, for a report")
	c.Flags().BoolVar(&o.trust, "trust", false, "run this project's commands without asking")
}

func startCommand(at *location) *cobra.Command {
	var opts startOptions
	c := &cobra.Command{
		Use:   "start [UNIT or GROUP ...]",
		Short: "Start the project, or a part of it with all that it needs",
		RunE: func(_ *cobra.Command, units []string) error {
			return guarded(func() error { return start(*at, opts, units) })
		},
	}
	opts.flags(c)
	return c
}

// guarded does the work in a second program that this one watches over.
func guarded(work func() error) error {
	if guard.Inside() {
		if err := guard.Enter(); err != nil {
			return outcome{exitFailed, "omnivigil: " + err.Error()}
		}
		return work()
	}
	code, err := guard.Run()
	switch {
	case err != nil:
		return outcome{exitFailed, "omnivigil: " + err.Error()}
	case code != 0:
		return outcome{code, ""}
	}
	return nil
}

// start runs a project until the person leaves.
func start(at location, opts startOptions, units []string) error {
	p, err := at.open()
	if err != nil {
		return err
	}
	if _, unknown := p.WithNeeds(units); unknown != "" {
		hint := ""
		if near := p.Suggest(unknown); near != "" {
			hint = fmt.Sprintf("; did you mean %q?", near)
		}
		return refuse("omnivigil: %s has no unit or group %q%s", p.File, unknown, hint)
	}
	if !opts.trust {
		if err := askForTrust(p); err != nil {
			return err
		}
	} else if err := trust.In(stateDir()).Add(p); err != nil {
		return refuse("omnivigil: %v", err)
	}
	offerToEndLeftovers(p)
	return run(p, running{units: units, plain: opts.plain, record: opts.record})
}

// askForTrust shows what would run, the first time and whenever it has changed.
func askForTrust(p *plan.Plan) error {
	store := trust.In(stateDir())
	agreed, err := store.Has(p)
	if err != nil {
		return refuse("omnivigil: %v", err)
	}
	if agreed {
		return nil
	}
	fmt.Printf("%s would run, in %s:\n\n", p.Name, p.Root)
	describe(os.Stdout, p)
	if !isTerminal(os.Stdin) || !isTerminal(os.Stdout) {
		return refuse("\nomnivigil: these commands are new here, and there is no terminal to ask on.\nLook at them and start with --trust; nothing was started.")
	}
	fmt.Print("\nThese commands are new here. Run them, now and from now on? [y/N] ")
	answer, err := bufio.NewReader(os.Stdin).ReadString('\n')
	if err != nil || !strings.HasPrefix(strings.ToLower(strings.TrimSpace(answer)), "y") {
		return refuse("Nothing was started.")
	}
	if err := store.Add(p); err != nil {
		return refuse("omnivigil: %v", err)
	}
	return nil
}

func isTerminal(f *os.File) bool { return term.IsTerminal(f.Fd()) }

// running says how a session is run.
type running struct {
	units  []string
	plain  bool
	record string
	// beside, if given, is called once the session runs.
	beside func(*session.Session)
}

// run is a session from its start to its account.
func run(p *plan.Plan, how running) error {
	began := time.Now()
	config := session.Config{Plan: p, Units: how.units, Logs: session.LogFolder(stateDir(), p, began), State: stateDir()}
	if how.record != "" {
		f, err := os.Create(how.record)
		if err != nil {
			return refuse("omnivigil: make the recording: %v", err)
		}
		defer f.Close()
		config.Record = f
	}
	s, err := session.Start(config)
	if err != nil {
		return outcome{exitFailed, "omnivigil: " + err.Error()}
	}
	defer s.Log().Close()
	if how.beside != nil {
		go how.beside(s)
	}
	interrupted := leaveOnSignal(s)
	guard.Watch(func() { leaveSoon(s) })
	if how.plain || !isTerminal(os.Stdout) || !isTerminal(os.Stdin) {
		err = printPlain(s)
	} else {
		closed := guard.Screen()
		err = tui.Run(s)
		closed()
	}
	s.Request(engine.Quit, "") // where the face is gone before: what runs must not outlive it
	<-s.Done()
	account(s, began)
	switch {
	case err != nil:
		return outcome{exitFailed, "omnivigil: " + err.Error()}
	case interrupted():
		return outcome{exitInterrupted, ""}
	}
	return nil
}

const sameSignal = 300 * time.Millisecond

// leaveSoon ends everything in order, but within the grace that is left when the
// outer program has been killed.
func leaveSoon(s *session.Session) {
	s.Request(engine.Quit, "")
	select {
	case <-s.Done():
	case <-time.After(guard.Grace):
		s.Request(engine.QuitNow, "")
	}
}

// leaveOnSignal turns the first signal to end into leaving in order and the
// second into leaving now. The result says whether one came.
func leaveOnSignal(s *session.Session) func() bool {
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	came := make(chan struct{})
	go func() {
		wish := engine.Quit
		var last time.Time
		for range signals {
			// A terminal sends its signals to the outer program as well, which hands
			// them on: two at once are one.
			if time.Since(last) < sameSignal {
				continue
			}
			last = time.Now()
			s.Request(wish, "")
			if wish == engine.Quit {
				close(came)
			}
			wish = engine.QuitNow
		}
	}()
	return func() bool {
		select {
		case <-came:
			return true
		default:
			return false
		}
	}
}

func printPlain(s *session.Session) error {
	width := 0
	for _, u := range s.Plan().Units {
		width = max(width, len(u.Name))
	}
	printer := plain.Printer{
		Book: s.Log(), Out: os.Stdout, Width: width,
		Colour: isTerminal(os.Stdout) && os.Getenv("NO_COLOR") == "",
	}
	err := printer.Follow(s.Done())
	if errors.Is(err, syscall.EPIPE) {
		return nil
	}
	return err
}

// account is what stays in the terminal afterwards.
func account(s *session.Session, began time.Time) {
	snap := s.Snapshot()
	runs, failed := 0, 0
	for _, u := range snap.Units {
		runs += u.Run.Number
	}
	for _, r := range snap.Ripples {
		if r.Outcome == engine.EndedBroken {
			failed++
		}
	}
	fmt.Fprintf(os.Stderr, "%s ran for %s: %s, %s, %s ended broken. Logs: %s\n",
		snap.Project, engine.Duration(time.Since(began)), many(len(snap.Saves), "save"), many(runs, "run"),
		many(failed, "ripple"), s.Log().Dir())
}

func many(n int, what string) string {
	if n == 1 {
		return "1 " + what
	}
	return fmt.Sprintf("%d %ss", n, what)
}
