// Package show runs a face of this process, the full screen or the stream of lines, from its start to the summary.
// Start reading at Project.
package show

import (
	"context"
	"errors"
	"fmt"
	"os"
	"os/signal"
	"path/filepath"
	"sync/atomic"
	"syscall"
	"time"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/socket"
	"omnivigil/internal/api/yield"
	"omnivigil/internal/face/cli/ask"
	"omnivigil/internal/face/cli/personal"
	"omnivigil/internal/face/cli/summary"
	"omnivigil/internal/face/client"
	"omnivigil/internal/face/client/projects"
	"omnivigil/internal/face/plain"
	"omnivigil/internal/face/tui"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/heap"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/supervisor"
	"omnivigil/internal/supervisor/guard"
	"omnivigil/internal/text/escape"
)

// face is this process as a face of a project.
type face struct {
	project *apiclient.Client
	place   socket.Place
	began   time.Time
	keeper  *guard.Keeper
	last    atomic.Pointer[api.Snapshot] // the newest snapshot
	ending  *Ending
	next    string // the settings file of the project to show next; empty: none
}

// Project runs a face, from its start to the summary. It returns when the project has ended or the user has
// closed the face.
func Project(place socket.Place, project *apiclient.Client, as Look) error {
	for {
		next, err := showOne(place, project, as)
		if next == "" {
			return err
		}
		if place, err = paths.Place(next); err != nil {
			return exit.With(exit.Failed, err)
		}
		if project, err = client.At(context.Background(), place); err != nil {
			return exit.With(exit.Failed, fmt.Errorf("show the project of %s: %w", next, err))
		}
	}
}

// showOne shows a project. It returns the settings file of the one to show next; empty: none.
func showOne(place socket.Place, project *apiclient.Client, as Look) (next string, err error) {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	first, err := project.Snapshot(ctx)
	switch {
	case errors.Is(err, api.ErrSilent):
		return "", err
	case err != nil:
		return "", exit.With(exit.Failed, err)
	}
	project.Patient = true // the face shows that there is no answer
	f := &face{project: project, place: place, began: time.Now()}
	f.last.Store(first)
	f.ending = f.endOnSignal(stop)
	defer f.ending.ignore()
	shown := make(chan error, 1)
	go func() { shown <- f.show(ctx, stop, first, as) }()
	select {
	case err := <-shown:
		return f.next, err
	case <-f.ending.overdue: // the terminal is no longer read; the keeper restores it
		return "", exit.Quietly(exit.Interrupted)
	}
}

// Look is how a project is shown.
type Look struct {
	Plain bool // as a stream of lines
	Raw   bool // whose lines are as they were written
	// Remote is the other machine on which the project runs; nil: it runs on this one.
	Remote *view.Remote
}

func (l *Look) Flags(c *cobra.Command) {
	c.Flags().BoolVar(&l.Plain, "plain", false, "print one interleaved stream instead of the full screen")
	c.Flags().BoolVar(&l.Raw, "raw", false, "with --plain: "+client.RawUsage)
}

// show shows the project until it has ended or the user has closed the face, and then prints the summary.
func (f *face) show(ctx context.Context, stop func(), first *api.Snapshot, as Look) (err error) {
	heap.Keep()
	if !as.Plain && IsScreenPossible() {
		err = f.screen(ctx, first, as.Remote)
	} else {
		inTime(f.ending.toBeLeft, func() { err = f.stream(ctx, first, as.Raw) })
	}
	stop()
	f.project.Close()
	if f.next != "" {
		return nil
	}
	return f.account(err)
}

// IsScreenPossible reports whether the terminal can show the full screen: "dumb" is one without control sequences.
func IsScreenPossible() bool {
	return ask.CanAsk() && os.Getenv("TERM") != "dumb"
}

func (f *face) screen(ctx context.Context, first *api.Snapshot, there *view.Remote) error {
	keeper, err := guard.Keep()
	if err != nil {
		return err
	}
	f.keeper = keeper
	screen := tui.Screen{Project: f.project, First: first, Terminal: keeper.Taken, Remote: there}
	if there == nil {
		screen.Yield, _ = yield.Of(first.Project.Supervisor) // without it, keys take effect later under load
	}
	screen.Habits, screen.Problems, screen.HabitsNow = personal.Habits()
	screen.Words, screen.Remember = personal.Words(), personal.Remember
	screen.SaveSelection = personal.SaveSelection
	screen.ListOthers = func(ctx context.Context) []view.Other { return others(ctx, f.place.File) }
	last, err := screen.Run(ctx)
	f.last.Store(last)
	if err == nil {
		f.next = screen.SwitchTo()
	}
	return err
}

// others are the other running projects.
func others(ctx context.Context, own string) (all []view.Other) {
	for _, p := range projects.Running(ctx, own) {
		if p.Problem == "" {
			all = append(all, view.Other{
				File: p.File, Name: p.Name, Root: p.Root, Word: p.Verdict.Word, Text: p.Verdict.Text, Since: p.Since,
			})
		}
	}
	return all
}

func (f *face) stream(ctx context.Context, first *api.Snapshot, raw bool) error {
	format := plain.For(first, client.Colors())
	format.Raw = raw
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

// inTime waits for work, but not long once it is urgent: it may be writing to something without a reader.
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

// Ending is what signals have requested.
type Ending struct {
	came     chan struct{} // closed by a signal to end
	urgent   chan struct{} // closed when the face is no longer waited for
	toBeLeft chan struct{} // closed when it is urgent and the project has ended, if this face ends it
	overdue  chan struct{} // closed a grace period after that
	ends     atomic.Bool   // the project ends, not only the face
	isUrgent bool          // set by the goroutine that closes urgent
	ignore   func()        // ends the handling of signals
}

// Asked reports whether a signal to end has arrived.
func (e *Ending) Asked() bool {
	select {
	case <-e.came:
		return true
	default:
		return false
	}
}

// InTime waits for work until it has ended or, if that is urgent, for a moment longer: it may be writing to something
// without a reader.
func (e *Ending) InTime(work func()) { inTime(e.urgent, work) }

// OnSignal ends a project in order at the first signal to end, and at once at the second one. First is its newest
// snapshot, and closeFace ends what follows it.
func OnSignal(place socket.Place, project *apiclient.Client, first *api.Snapshot, closeFace func()) *Ending {
	f := &face{project: project, place: place, began: time.Now()}
	f.last.Store(first)
	f.ending = f.endOnSignal(closeFace)
	return f.ending
}

const sameSignal = 300 * time.Millisecond

// endOnSignal handles signals to end. The first one ends the project in order, if this is its only face, and
// otherwise the face; the second one ends it at once. A full screen whose terminal is gone (HUP) ends only itself.
// After TERM, HUP and any second signal, it does not wait long for the project or for a terminal that is not read.
func (f *face) endOnSignal(closeFace func()) *Ending {
	e := &Ending{came: make(chan struct{}), urgent: make(chan struct{}), toBeLeft: make(chan struct{}),
		overdue: make(chan struct{})}
	signals := make(chan os.Signal, 2)
	signal.Notify(signals, os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	// A reader that is gone is an error of the write, not the end of the program.
	signal.Ignore(syscall.SIGPIPE)
	e.ignore = func() {
		signal.Stop(signals)
		close(signals)
	}
	go func() {
		var last time.Time
		for sig := range signals {
			if time.Since(last) < sameSignal { // a shell and its terminal may both send one
				continue
			}
			last = time.Now()
			again := e.Asked()
			if !again {
				close(e.came)
			}
			urgent := (again || sig != os.Interrupt) && !e.isUrgent
			if urgent {
				e.isUrgent = true
				close(e.urgent)
			}
			go func() {
				if sig == syscall.SIGHUP && f.keeper != nil {
					closeFace() // the terminal is gone: the project waits for another screen
				} else if f.end(again, closeFace) {
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

// end ends the project, or only the face if the project would keep running without it. It reports whether it ends the
// project.
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
			return true // the face gets the end
		}
	}
	closeFace()
	return false
}

// LongestEnd limits the wait for the end of a project: units may take long to stop.
const LongestEnd = 10 * time.Minute

// endAnyway stops waiting for the face, after the project has ended if it does, whatever the terminal does.
func (f *face) endAnyway() {
	const patience, going = 2 * time.Second, 10 * time.Second
	ends := f.ending.ends.Load()
	if ends {
		f.waitEnded()
	}
	close(f.ending.toBeLeft)
	if ends { // the summary is about that
		client.WaitGone(f.place, going)
	}
	time.Sleep(patience)
	close(f.ending.overdue)
}

// waitEnded waits until all processes of the project have ended. The supervisor may stay longer: it waits for faces
// that have not shown everything, and this may be one without a reader.
func (f *face) waitEnded() {
	const look = 20 * time.Millisecond
	ctx, stop := context.WithTimeout(context.Background(), LongestEnd)
	defer stop()
	for {
		snap, err := f.project.Snapshot(ctx)
		if err != nil || snap.Ended {
			return
		}
		time.Sleep(look)
	}
}

// account prints the summary, and returns the exit status.
func (f *face) account(err error) error {
	snap := f.last.Load()
	switch {
	case errors.Is(err, apiclient.ErrLost):
		client.WaitGone(f.place, 5*time.Second)
		return lost(snap)
	case errors.Is(err, syscall.EPIPE) && !holds(snap):
		return nil
	case errors.Is(err, syscall.EPIPE): // the reader has closed the pipe
		client.WaitGone(f.place, 5*time.Second)
		inTime(f.ending.urgent, func() {
			fmt.Fprintln(os.Stderr, "Output closed; everything was stopped.")
			summary.Say(os.Stderr, snap, time.Now())
		})
		return nil
	case err != nil:
		return exit.With(exit.Failed, err)
	}
	if f.ending.ends.Load() && !snap.Ended { // the last snapshot was not waited for
		client.WaitGone(f.place, LongestEnd)
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
	if f.ending.Asked() {
		return exit.Quietly(exit.Interrupted)
	}
	return nil
}

// lost reports that the supervisor is gone.
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
