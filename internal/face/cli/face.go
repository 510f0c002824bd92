package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"sync/atomic"
	"syscall"
	"time"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/face/cli/summary"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/plain"
	"omnivigil/internal/face/tui"
	"omnivigil/internal/supervisor"
	"omnivigil/internal/supervisor/guard"
	"omnivigil/internal/text/escape"
)

// face is this process as one of a project's faces.
type face struct {
	project *apiclient.Client
	place   socket.Place
	began   time.Time
	keeper  *guard.Keeper
	last    atomic.Pointer[api.Snapshot] // as the project was last seen
	ending  *ending
}

// showProject is a face from its start to its account. It returns when the project has
// ended or the user has closed the face.
func showProject(place socket.Place, project *apiclient.Client, asPlain bool) error {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	first, err := project.Snapshot(ctx)
	switch {
	case errors.Is(err, api.ErrSilent):
		return err
	case err != nil:
		return exit.With(exit.Failed, err)
	}
	project.Patient = true // it says itself that there is no answer
	f := &face{project: project, place: place, began: time.Now()}
	f.last.Store(first)
	f.ending = f.endOnSignal(stop)
	shown := make(chan error, 1)
	go func() { shown <- f.show(ctx, stop, first, asPlain) }()
	select {
	case err := <-shown:
		return err
	case <-f.ending.overdue: // the terminal is not read any more; the keeper puts it back
		return exit.Quietly(exit.Interrupted)
	}
}

// show shows the project until it has ended or the user has closed the face, and then says how it went.
func (f *face) show(ctx context.Context, stop func(), first *api.Snapshot, asPlain bool) (err error) {
	if !asPlain && isScreenPossible() {
		err = f.screen(ctx, first)
	} else {
		inTime(f.ending.toBeLeft, func() { err = f.stream(ctx, first) })
	}
	stop()
	f.project.Close()
	return f.account(err)
}

func isScreenPossible() bool { return isTerminal(os.Stdout) && isTerminal(os.Stdin) }

// A screen that is drawn many times a second allocates much and keeps little of it: see supervisor.
const (
	collectAt = 400
	heapLimit = 64 << 20
)

func (f *face) screen(ctx context.Context, first *api.Snapshot) error {
	keeper, err := guard.Keep()
	if err != nil {
		return err
	}
	f.keeper = keeper
	debug.SetGCPercent(collectAt)
	debug.SetMemoryLimit(heapLimit)
	screen := tui.Screen{Project: f.project, First: first, Terminal: keeper.Taken}
	screen.Habits, screen.Problems, screen.HabitsNow = habits()
	screen.Words, screen.Remember = typedWords(), rememberWords
	last, err := screen.Run(ctx)
	f.last.Store(last)
	return err
}

func (f *face) stream(ctx context.Context, first *api.Snapshot) error {
	format := plain.For(first, client.Colors())
	printer := plain.Printer{Project: f.project, Out: os.Stdout, Format: format}
	last, err := printer.Follow(ctx)
	if last != nil {
		f.last.Store(last)
	}
	if errors.Is(err, context.Canceled) {
		return nil
	}
	return err
}

// inTime waits for work, but not for long once it is urgent: it may be writing to where
// no reader.
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

// ending is what signals have asked for.
type ending struct {
	came     chan struct{} // closed when one has asked to end
	urgent   chan struct{} // closed when no face is to be waited for
	toBeLeft chan struct{} // closed when that is so and the project has ended, if it does because of this face
	overdue  chan struct{} // closed when the face has had its time after that
	ends     atomic.Bool   // the project does
	isUrgent bool          // it is; of the goroutine that closes it
}

func (e *ending) asked() bool {
	select {
	case <-e.came:
		return true
	default:
		return false
	}
}

const sameSignal = 300 * time.Millisecond

// endOnSignal turns the first signal to end into the end of the project, in order, where
// this is its only face, else into the end of the face; and the second into the end at once.
// After TERM, HUP and the second of any, neither the project nor a terminal that does not
// read is waited for long.
func (f *face) endOnSignal(closeFace func()) *ending {
	e := &ending{came: make(chan struct{}), urgent: make(chan struct{}), toBeLeft: make(chan struct{}),
		overdue: make(chan struct{})}
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	// A reader that has gone shows as an error, not by the end of the program.
	signal.Ignore(syscall.SIGPIPE)
	go func() {
		var last time.Time
		for sig := range signals {
			if time.Since(last) < sameSignal { // a shell and its terminal may both send one
				continue
			}
			last = time.Now()
			again := e.asked()
			if !again {
				close(e.came)
			}
			urgent := (again || sig != os.Interrupt) && !e.isUrgent
			if urgent {
				e.isUrgent = true
				close(e.urgent)
			}
			go func() {
				if f.end(again, closeFace) {
					e.ends.Store(true)
				}
				if urgent {
					f.endAnyway()
				}
			}()
		}
	}()
	return e
}

// holds reports whether the project keeps running only because of this face.
func holds(snap *api.Snapshot) bool { return !snap.Background && len(snap.Faces) <= 1 }

// end ends the project, or only the face where the project would keep running without it. It
// reports whether it is the project.
func (f *face) end(atOnce bool, closeFace func()) bool {
	const patience = 10 * time.Second
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	snap, err := f.project.Snapshot(ctx)
	if err == nil && holds(snap) {
		action := api.End
		if atOnce {
			action = api.EndNow
		}
		_, err = f.project.Do(ctx, api.Request{Action: action})
		if err == nil {
			return true // the face sees it end
		}
	}
	closeFace()
	return false
}

// longestEnd is how long the end of a project is waited for: units may take long to stop.
const longestEnd = 10 * time.Minute

// endAnyway stops waiting for the face, when the project has ended if that does, whatever the terminal does.
func (f *face) endAnyway() {
	const patience, going = 2 * time.Second, 10 * time.Second
	ends := f.ending.ends.Load()
	if ends {
		f.waitEnded()
	}
	close(f.ending.toBeLeft)
	if ends { // the account is about that
		client.WaitGone(f.place, going)
	}
	time.Sleep(patience)
	close(f.ending.overdue)
}

// waitEnded waits until everything that the project ran has ended. The process that runs it may stay
// longer: it waits for faces that have not shown all yet, and this may be one without a reader.
func (f *face) waitEnded() {
	const look = 20 * time.Millisecond
	ctx, stop := context.WithTimeout(context.Background(), longestEnd)
	defer stop()
	for {
		snap, err := f.project.Snapshot(ctx)
		if err != nil || snap.Ended {
			return
		}
		time.Sleep(look)
	}
}

// account is what stays in the terminal afterwards, and the exit code.
func (f *face) account(err error) error {
	snap := f.last.Load()
	switch {
	case errors.Is(err, apiclient.ErrLost):
		client.WaitGone(f.place, 5*time.Second)
		return lost(snap)
	case errors.Is(err, syscall.EPIPE) && !holds(snap):
		return nil
	case errors.Is(err, syscall.EPIPE): // the reader has read enough, and left
		client.WaitGone(f.place, 5*time.Second)
		inTime(f.ending.urgent, func() {
			fmt.Fprintln(os.Stderr, "Output closed; everything was stopped.")
			summary.Say(os.Stderr, snap, time.Now())
		})
		return nil
	case err != nil:
		return exit.With(exit.Failed, err)
	}
	if f.ending.ends.Load() && !snap.Ended { // its last words were not waited for
		client.WaitGone(f.place, longestEnd)
		fmt.Fprintf(os.Stderr, "%s was stopped.\nLogs: %s\n", escape.Text(snap.Project.Name), snap.Project.Logs)
		return exit.Quietly(exit.Interrupted)
	}
	if !snap.Ended {
		fmt.Fprintf(
			os.Stderr,
			"%s keeps running. omnivigil attach shows it again, omnivigil stop --all ends it.\n",
			escape.Text(snap.Project.Name),
		)
	} else {
		client.WaitGone(f.place, 5*time.Second)
		inTime(f.ending.urgent, func() { summary.Say(os.Stderr, snap, time.Now()) })
	}
	if f.ending.asked() {
		return exit.Quietly(exit.Interrupted)
	}
	return nil
}

// lost says that the supervisor is gone.
func lost(snap *api.Snapshot) error {
	logs := "\nLogs: " + snap.Project.Logs
	report := filepath.Join(snap.Project.Logs, supervisor.CrashFile)
	if info, err := os.Stat(report); err == nil && info.Size() > 0 {
		return exit.Saying(
			exit.Crashed,
			"omnivigil crashed: this is a bug. Everything that it ran was stopped.\nThe report is in "+report+"."+logs,
		)
	}
	return exit.Saying(
		exit.Failed,
		"omnivigil: the process that ran "+snap.Project.Name+" is gone, and everything that it ran was ended."+logs,
	)
}
