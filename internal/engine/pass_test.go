package engine

import (
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
)

// TestUndoneSaves reports to a compiler in watch mode files that are unchanged in the end, and lets all timers fire
// afterwards: it is current, and its followers act if a pass may have read what counts.
func TestUndoneSaves(t *testing.T) {
	const ms = time.Millisecond
	own, other := Hit{Unit: "compiler", Path: "made.txt"}, Hit{Unit: "compiler", Path: "page.txt"}
	touched := func(burst int) Touched { return Touched{Burst: burst, Units: []string{"compiler"}} }
	unchanged := func(burst int, hits ...Hit) Unchanged {
		return Unchanged{Burst: burst, Units: []string{"compiler"}, Hits: hits}
	}
	good := PassEnded{Unit: "compiler", Run: 1, Good: true}
	for _, c := range []struct {
		name    string
		ignores []string
		events  []Event // 10 ms apart; a PassBegan began when it is reported
		acts    bool    // the site restarts
	}{
		{"two bursts by turns", nil,
			[]Event{PassBegan{}, touched(1), touched(2), touched(1), unchanged(1, other), touched(2), good,
				unchanged(2, other)}, true},
		{"an ignored file", []string{"made.txt"}, []Event{touched(1), PassBegan{}, good, unchanged(1, own)}, false},
		{"another than the ignored file", []string{"made.txt"},
			[]Event{touched(1), PassBegan{}, good, unchanged(1, other)}, true},
		{"both", []string{"made.txt"}, []Event{touched(1), unchanged(1, own, other), PassBegan{}, good}, true},
	} {
		t.Run(c.name, func(t *testing.T) {
			compiler, site := service("compiler"), service("site")
			compiler.Pass, compiler.Ready = &plan.Pass{Within: time.Second}, plan.Ready{Within: time.Minute}
			site.Follows = []string{"compiler"}
			e, at := New(projectOf(compiler, site)), noon
			ring := map[TimerID]Moment{}
			started := 0 // runs of the site
			step := func(ev Event) {
				orders := e.Step(at, ev)
				for i := 0; i < len(orders); i++ {
					switch o := orders[i].(type) {
					case Start:
						if o.Unit == "site" {
							started++
						}
						orders = append(orders, e.Step(at, Spawned{Unit: o.Unit, Run: o.Run})...)
					case StopRun:
						orders = append(
							orders,
							e.Step(at, Exited{Unit: o.Unit, Run: o.Run, Exit: Exit{Code: -1, Signal: "SIGTERM"}})...)
					case SetTimer:
						ring[o.Timer] = at.Add(o.After)
					}
				}
			}
			tell := func(events ...Event) {
				for _, ev := range events {
					switch now := ev.(type) {
					case PassBegan:
						ev = PassBegan{Unit: "compiler", Run: 1, After: at, By: at}
					case Touched:
						now.Written = []time.Time{at.Wall}
						ev = now
					}
					step(ev)
					at = at.Add(10 * ms)
				}
			}
			rest := func() {
				for len(ring) > 0 {
					var first TimerID
					for id, when := range ring {
						if first == 0 || when.Before(ring[first]) {
							first = id
						}
					}
					at = later(at, ring[first])
					delete(ring, first)
					step(TimerFired{Timer: first})
				}
			}
			tell(Begin{}, PassBegan{}, good)
			rest()
			require.Equal(t, VerdictCurrent, e.Snapshot().Verdict.Word)
			require.Equal(t, 1, started)
			if len(c.ignores) > 0 {
				e.byName["compiler"].loop = &Loop{Files: c.ignores, Noted: true}
			}
			at = at.Add(time.Minute)
			tell(c.events...)
			rest()
			assert.Equal(t, VerdictCurrent, e.Snapshot().Verdict.Word)
			assert.Equal(t, c.acts, started > 1)
		})
	}
}

// TestReadBeforeHeard has a file changed and restored, and the first write reported only after a run has ended that
// may have read it: the run is repeated, unless it had ended before.
func TestReadBeforeHeard(t *testing.T) {
	const ms = time.Millisecond
	for written, reruns := range map[time.Duration]bool{25 * ms: true, 35 * ms: false} {
		e := New(projectOf(&plan.Unit{Name: "fares", Kind: plan.Task, Run: plan.Command{Shell: "fares"}}))
		at := func(d time.Duration) Moment { return noon.Add(d) }
		e.Step(noon, Begin{})
		e.Step(at(20*ms), Spawned{Unit: "fares", Run: 1})
		e.Step(at(30*ms), Exited{Unit: "fares", Run: 1})
		e.Step(at(40*ms), Touched{Burst: 1, Units: []string{"fares"}, Written: []time.Time{at(written).Wall}})
		e.Step(at(60*ms), Touched{Burst: 1, Units: []string{"fares"}, Written: []time.Time{at(60 * ms).Wall}})
		orders := e.Step(
			at(200*ms),
			Unchanged{Burst: 1, Units: []string{"fares"}, Hits: []Hit{{Unit: "fares", Path: "fares.txt"}}},
		)
		started := slices.ContainsFunc(orders, func(o Order) bool {
			start, is := o.(Start)
			return is && start.Run == 2
		})
		assert.Equal(t, reruns, started, "written after %s", written)
	}
}
