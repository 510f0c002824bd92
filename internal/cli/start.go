package cli

import (
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"sync"
	"syscall"
	"time"

	"github.com/charmbracelet/x/term"
	"github.com/spf13/cobra"

	"omnivigil/internal/engine"
	"omnivigil/internal/guard"
	"omnivigil/internal/logbook"
	"omnivigil/internal/plain"
	"omnivigil/internal/plan"
	"omnivigil/internal/plural"
	"omnivigil/internal/session"
	"omnivigil/internal/trust"
	"omnivigil/internal/tui"
	"omnivigil/internal/visible"
)

type startOptions struct {
	plain bool
	trust bool
	// record is a file for the engine's events, to be replayed.
	record string
}

func (o *startOptions) flags(c *cobra.Command) {
	c.Flags().BoolVar(&o.plain, "plain", false, "print one interleaved stream instead of the full screen")
	c.Flags().StringVar(&o.record, "record", "", "write what happens and what is decided into this file, for a report; it has names of files and commands, but no values of variables")
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

// start runs a project until the person quits.
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
	if err := consent(p, opts.trust); err != nil {
		return err
	}
	offerToEndLeftovers(p)
	return run(p, running{units: units, plain: opts.plain, record: opts.record, remember: trust.In(stateDir()).Add})
}

func isTerminal(f *os.File) bool { return term.IsTerminal(f.Fd()) }

// running says how a session is run.
type running struct {
	units  []string
	plain  bool
	record string
	// remember, if given, is called with each edited plan that has been taken up.
	remember func(*plan.Plan) error
	// beside, if given, is called once the session runs.
	beside func(*session.Session)
}

// project is a session with its log, as faces see it.
type project struct {
	*session.Session
	book *logbook.Book
}

func (p project) Log() *logbook.Book { return p.book }

// run is a session from its start to its account.
func run(p *plan.Plan, how running) error {
	began := time.Now()
	logs := session.LogFolder(stateDir(), p, began)
	config := session.Config{Plan: p, Units: how.units, Logs: logs, State: stateDir()}
	if how.record != "" {
		f, err := os.OpenFile(how.record, os.O_CREATE|os.O_TRUNC|os.O_WRONLY, 0o600)
		if err != nil {
			return refuse("omnivigil: make the recording: %v", err)
		}
		defer f.Close()
		config.Record = f
	}
	book := logbook.Open(logs)
	defer book.Close()
	config.Book = book
	crash := guard.CatchCrash(filepath.Join(logs, "crash.txt"))
	if how.remember != nil {
		config.Adopted = func(p *plan.Plan) { go how.remember(p) }
	}
	s, err := session.Start(config)
	if err != nil {
		return outcome{exitFailed, "omnivigil: " + err.Error()}
	}
	if crash != nil {
		s.Note("a crash of Omnivigil would leave no report: " + crash.Error())
	}
	if how.beside != nil {
		go how.beside(s)
	}
	end := quitOnSignal(s)
	guard.Watch(func() { quitSoon(s) })
	err = show(project{s, book}, how.plain, end)
	s.Request(engine.Quit, "") // where the face is gone before: what runs must not outlive it
	<-s.Done()
	inTime(end.urgent, func() { account(s, book, began, err) })
	switch {
	case errors.Is(err, syscall.EPIPE): // somebody has read enough, and said so by leaving
		return nil
	case err != nil:
		return outcome{exitFailed, "omnivigil: " + err.Error()}
	case end.asked():
		return outcome{exitInterrupted, ""}
	}
	return nil
}

// show is the face, from the start to the end of the session. A stream that nobody reads
// does not keep the program from ending when it is urgent.
func show(p project, asPlain bool, end *ending) error {
	if !asPlain && isTerminal(os.Stdout) && isTerminal(os.Stdin) {
		closed := guard.Screen()
		defer closed()
		return tui.Run(p)
	}
	var err error
	inTime(end.urgent, func() { err = printPlain(p) })
	return err
}

// inTime waits for work, but not for long once it is urgent: it may be writing to where
// nobody reads.
func inTime(urgent <-chan struct{}, work func()) {
	const patience = time.Second
	done := make(chan struct{})
	go func() {
		defer close(done)
		work()
	}()
	select {
	case <-done:
	case <-urgent:
		select {
		case <-done:
		case <-time.After(patience):
		}
	}
}

const sameSignal = 300 * time.Millisecond

// quitSoon ends everything in order, but within the grace that is left when the
// outer program has been killed.
func quitSoon(s *session.Session) {
	s.Request(engine.Quit, "")
	select {
	case <-s.Done():
	case <-time.After(guard.Grace):
		s.Request(engine.QuitNow, "")
	}
}

// ending is what signals have asked for.
type ending struct {
	came   chan struct{} // closed when one has asked to quit
	urgent chan struct{} // closed when it is not to be waited for anybody
	once   sync.Once
}

func (e *ending) asked() bool {
	select {
	case <-e.came:
		return true
	default:
		return false
	}
}

// quitOnSignal turns the first signal to end into quitting in order and the second into
// quitting at once. TERM and the second signal are urgent.
func quitOnSignal(s *session.Session) *ending {
	e := &ending{came: make(chan struct{}), urgent: make(chan struct{})}
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	// A reader that has gone is told by an error, not by the end of the program.
	signal.Ignore(syscall.SIGPIPE)
	go func() {
		var last time.Time
		for sig := range signals {
			// A terminal sends its signals to the outer program as well, which hands
			// them on: two at once are one.
			if time.Since(last) < sameSignal {
				continue
			}
			last = time.Now()
			again := e.asked()
			if again || sig != os.Interrupt {
				e.once.Do(func() { close(e.urgent) })
			}
			if again {
				s.Request(engine.QuitNow, "")
				continue
			}
			close(e.came)
			s.Request(engine.Quit, "")
		}
	}()
	return e
}

func printPlain(p project) error {
	width := 0
	for _, u := range p.Plan().Units {
		width = max(width, len(u.Name))
	}
	printer := plain.Printer{
		Book: p.Log(), Out: os.Stdout, Width: width,
		Colour: isTerminal(os.Stdout) && os.Getenv("NO_COLOR") == "",
	}
	return printer.Follow(p.Done())
}

// account is what stays in the terminal afterwards.
func account(s *session.Session, book *logbook.Book, began time.Time, face error) {
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
	if errors.Is(face, syscall.EPIPE) {
		fmt.Fprintln(os.Stderr, "Nobody reads the output any more, so everything was stopped.")
	}
	where := "Logs: " + book.Dir()
	if err := book.Err(); err != nil {
		where = "There are no logs: " + err.Error()
	}
	fmt.Fprintf(os.Stderr, "%s ran for %s: %s, %s, %s ended broken. %s\n",
		visible.Text(snap.Project), engine.Duration(time.Since(began)), plural.Count(len(snap.Saves), "save"), plural.Count(runs, "run"),
		plural.Count(failed, "ripple"), where)
}
