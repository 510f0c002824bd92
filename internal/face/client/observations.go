package client

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"os/signal"
	"path"
	"slices"
	"sync"
	"syscall"
	"time"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/text/format"
)

// SayObservations prints what units were seen to do, and how that differs from their settings.
func SayObservations(w io.Writer, all api.Observations) {
	for _, o := range all.Units {
		Say(w, "%s", o.Unit)
		sayActivity(w, o)
	}
	sayMismatches(w, all)
}

// sayObserved prints what one unit was seen to do and how its settings differ from that, as a section of its details.
func sayObserved(w io.Writer, d api.Detail) {
	if d.Observed == nil {
		return
	}
	Say(w, "\nobserved")
	sayActivity(w, *d.Observed)
	for _, m := range d.Mismatches {
		sayMismatch(w, m)
	}
}

// sayActivity prints what a unit was seen to do, one line for each kind.
func sayActivity(w io.Writer, o api.Observation) {
	line := func(what string, items []string) {
		if len(items) > 0 {
			const most = 6
			Say(w, "  %-10s %s", what, format.ListOf(items[:min(len(items), most)], len(items)))
		}
	}
	var covered, kept, uncovered, wrote, ran, peers []string
	for _, r := range o.Reads {
		switch {
		case r.Rule != "":
			covered = append(covered, r.Path)
		case r.Exempt != "":
			kept = append(kept, r.Path)
		default:
			uncovered = append(uncovered, r.Path)
		}
	}
	for _, one := range o.Writes {
		wrote = append(wrote, one.Path)
	}
	for _, p := range o.Programs {
		ran = append(ran, path.Base(p.Path))
	}
	for _, p := range o.Connects {
		peers = append(peers, p.Address+into(p.Unit))
	}
	line("read", byDirectory(covered))
	line("uncovered", uncovered)
	line("also read", byDirectory(kept))
	line("looked for", o.Missing)
	line("wrote", byDirectory(wrote))
	line("removed", byDirectory(o.Removes))
	line("executed", unique(ran))
	line("listens", o.Listens)
	line("connects", peers)
	if o.Problem != "" {
		Say(w, "  %-10s %s", "unseen", o.Problem)
	}
}

func into(unit string) string {
	if unit == "" {
		return ""
	}
	return " (" + unit + ")"
}

func unique(words []string) []string {
	slices.Sort(words)
	return slices.Compact(words)
}

// byDirectory shortens a list of files to their directories, with the number of files in each. The directories with
// the most files come first.
func byDirectory(files []string) []string {
	count, only := map[string]int{}, map[string]string{}
	for _, file := range files {
		dir := path.Dir(file)
		count[dir]++
		only[dir] = file
	}
	dirs := make([]string, 0, len(count))
	for dir := range count {
		dirs = append(dirs, dir)
	}
	slices.SortFunc(dirs, func(a, b string) int { return cmp.Or(count[b]-count[a], cmp.Compare(a, b)) })
	for i, dir := range dirs {
		if dirs[i] = fmt.Sprintf("%s/ (%d)", dir, count[dir]); count[dir] == 1 {
			dirs[i] = only[dir]
		}
	}
	return dirs
}

// sayMismatches prints the differences between settings and what was observed, with the edits that would settle them.
func sayMismatches(w io.Writer, all api.Observations) {
	n := Actionable(all.Mismatches)
	units := format.Count(len(all.Units), "observed unit")
	switch {
	case n == 0:
		Say(w, "\nThe settings agree with what %s did.", units)
	default:
		Say(w, "\n%s between the settings and what %s did:", format.Count(n, "mismatch"), units)
	}
	for _, m := range all.Mismatches {
		Say(w, "")
		sayMismatch(w, m)
	}
}

func sayMismatch(w io.Writer, m api.Mismatch) {
	Say(w, "%-8s %s %s", m.Severity, m.Unit, m.Text)
	for _, e := range m.Edits {
		Say(w, "         line %d, %s: %s", m.Line, e.Unit, e.Text)
	}
}

// Actionable returns the number of mismatches that are not just notes.
func Actionable(all []api.Mismatch) int {
	n := 0
	for _, m := range all {
		if m.Severity != api.SeverityNote {
			n++
		}
	}
	return n
}

const (
	// quietFor is how long nothing new must have been seen for the observation to be over.
	quietFor = 2 * time.Second
	// quietWithin limits the wait for that: some processes never do the same twice.
	quietWithin = 30 * time.Second
	quietLook   = 500 * time.Millisecond
)

// ObserveUntilQuiet waits until all units are at rest after a ripple has begun, nothing new has been seen for a moment,
// and a duration has passed since then, and returns what was seen of the named units; none: of all. A signal ends the
// wait early. What becomes ready or done is printed to standard error.
func ObserveUntilQuiet(
	running *apiclient.Client, units []string, ripple int, longer time.Duration,
) (api.Observations, error) {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM, syscall.SIGHUP)
	defer stop()
	rested, ended := make(chan struct{}), make(chan error, 1)
	rest := sync.OnceFunc(func() { close(rested) })
	told := map[string]api.State{}
	go func() { // until the end: a project may end when its last face is gone
		ended <- running.Follow(ctx, api.Face{Kind: "observe", PID: os.Getpid()}, func(snap *api.Snapshot) error {
			if len(snap.Ripples) > 0 && snap.Ripples[len(snap.Ripples)-1].ID >= ripple && !sayStates(snap, told) {
				rest()
			}
			return nil
		})
	}()
	select {
	case <-ended:
		if ctx.Err() == nil {
			return api.Observations{}, exit.Saying(exit.Failed,
				"omnivigil: the project has ended before its units were at rest")
		}
	case <-rested:
	case <-ctx.Done():
	}
	return untilQuiet(ctx, running, units, longer)
}

// sayStates prints the new states of units that are at rest, and reports whether others are moving.
func sayStates(snap *api.Snapshot, told map[string]api.State) (moving bool) {
	for _, u := range snap.Units {
		if u.Wanted && told[u.Name] != u.State && (u.State.Broken() || !u.Moving) {
			told[u.Name] = u.State
			fmt.Fprintf(os.Stderr, "%s %s\n", u.Name, u.State)
		}
		moving = moving || u.Moving
	}
	return moving
}

// untilQuiet waits until nothing new has been seen of the units for a moment, and a duration has passed.
func untilQuiet(
	ctx context.Context, running *apiclient.Client, units []string, longer time.Duration,
) (api.Observations, error) {
	began := time.Now()
	for {
		all, err := running.Observations(context.Background(), units)
		if err != nil {
			return all, exit.With(exit.Failed, err)
		}
		newest := slices.MaxFunc(append(all.Units, api.Observation{}), func(a, b api.Observation) int {
			return a.Last.Compare(b.Last)
		}).Last
		since := time.Since(began)
		quiet := time.Since(newest) >= quietFor || since >= quietWithin
		if ctx.Err() != nil || quiet && since >= longer {
			return all, nil
		}
		select {
		case <-time.After(quietLook):
		case <-ctx.Done():
		}
	}
}
