package engine

import (
	"fmt"
	"testing"
	"time"

	"omnivigil/internal/plan"
)

// ready returns an engine with n services, all ready, in chains of three in which each needs and follows the one
// before.
func ready(n int) (*Engine, *world) {
	p := &plan.Plan{Name: "bench"}
	for i := range n {
		u := &plan.Unit{Name: fmt.Sprintf("u%d", i), Ready: plan.Ready{Port: 1, Within: time.Second},
			Stop: plan.Stop{Signal: "TERM", Grace: time.Second}}
		if i%3 > 0 {
			before := fmt.Sprintf("u%d", i-1)
			u.Needs, u.Follows = []string{before}, []string{before}
		}
		p.Units = append(p.Units, u)
	}
	w := &world{engine: New(p), now: noon}
	w.send(Begin{})
	return w.engine, w
}

// world answers every order at once, with as little work as possible.
type world struct {
	engine *Engine
	now    Moment
	steps  int
	queue  []Event
	worst  time.Duration // of a step
}

func (w *world) send(ev Event) {
	w.queue = append(w.queue, ev)
	for len(w.queue) > 0 {
		ev, w.queue = w.queue[0], w.queue[1:]
		w.now = w.now.Add(time.Millisecond)
		w.steps++
		w.carryOut(w.engine.Step(w.now, ev))
	}
}

func (w *world) carryOut(orders []Order) {
	for _, o := range orders {
		switch o := o.(type) {
		case Start:
			w.queue = append(w.queue, Spawned{o.Unit, o.Run, 1}, BecameReady{o.Unit, o.Run})
		case StopRun:
			w.queue = append(w.queue, Exited{Unit: o.Unit, Run: o.Run})
		case SetTimer:
			w.queue = append(w.queue, TimerFired{o.Timer})
		case Observe: // a user saves
			w.queue = append(w.queue, observed(o, WroteNothing))
		}
	}
}

// observed answers that all runs have written.
func observed(o Observe, what Wrote) Observed {
	ev := Observed{Burst: o.Burst, Units: o.Units}
	for _, id := range o.Runs {
		ev.Runs = append(ev.Runs, Observation{Unit: id.Unit, Run: id.Run, Wrote: what})
	}
	return ev
}

// BenchmarkSave measures a save that affects the head of a chain of three, until everything that it causes is at
// rest, in projects of several sizes.
func BenchmarkSave(b *testing.B) {
	for _, n := range []int{10, 100, 1000} {
		b.Run(fmt.Sprintf("units=%d", n), func(b *testing.B) {
			e, w := ready(n)
			w.steps = 0
			b.ResetTimer()
			for i := range b.N {
				w.now = w.now.Add(time.Second)
				head := fmt.Sprintf("u%d", 3*(i%(n/3)))
				w.send(Touched{Burst: i + 1, Units: []string{head}})
				w.send(Change{Burst: i + 1, Since: w.now, Hits: []Hit{{Unit: head, Path: "a", Rule: "**"}}})
			}
			b.ReportMetric(float64(w.steps)/b.Elapsed().Seconds(), "steps/s")
			b.StopTimer()
			if each := w.steps / b.N; each < 15 {
				b.Fatalf("a save took %d steps: three units cannot have been restarted", each)
			}
			if v := e.verdict(); v.Word != VerdictCurrent {
				b.Fatalf("%+v", v)
			}
		})
	}
}

// BenchmarkLargeChange measures the one step that decides about a change of 50,000 files that affects ten units, each
// with the maximum of listed hits.
func BenchmarkLargeChange(b *testing.B) {
	e, w := ready(30)
	change := Change{Files: 50_000}
	var heads []string
	for n := range 10 {
		head := fmt.Sprintf("u%d", 3*n)
		heads = append(heads, head)
		for i := range 500 {
			h := Hit{Unit: head, Path: fmt.Sprintf("area-%d/file", i), Rule: "**", What: "written"}
			if i >= 300 {
				h.More = 200
			}
			change.Hits = append(change.Hits, h)
		}
	}
	b.ResetTimer()
	for i := range b.N {
		w.now = w.now.Add(time.Second)
		w.send(Touched{Burst: i + 1, Units: heads})
		change.Burst, change.Since = i+1, w.now
		began := time.Now()
		orders := e.Step(w.now, change)
		if took := time.Since(began); took > w.worst {
			w.worst = took
		}
		w.carryOut(orders)
		w.send(TimerFired{})
	}
	b.ReportMetric(float64(w.worst.Microseconds())/1000, "ms-worst")
	if v := e.verdict(); v.Word != VerdictCurrent {
		b.Fatalf("%+v", v)
	}
}

// BenchmarkEvent measures the cost of an event for the loop, with the snapshot after it: a write that affects one
// unit and is taken back, in projects of several sizes.
func BenchmarkEvent(b *testing.B) {
	for _, n := range []int{10, 100, 1000} {
		b.Run(fmt.Sprintf("units=%d", n), func(b *testing.B) {
			e, w := ready(n)
			b.ReportAllocs()
			b.ResetTimer()
			for i := range b.N / 2 {
				units := []string{fmt.Sprintf("u%d", 3*(i%(n/3)))}
				w.now = w.now.Add(time.Millisecond)
				e.Step(w.now, Touched{Burst: i + 1, Units: units, Written: []time.Time{w.now.Wall}})
				e.Snapshot()
				e.Step(w.now, Unchanged{Burst: i + 1, Units: units})
				e.Snapshot()
			}
			b.StopTimer()
			if v := e.verdict(); v.Word != VerdictCurrent {
				b.Fatalf("%+v", v)
			}
		})
	}
}
