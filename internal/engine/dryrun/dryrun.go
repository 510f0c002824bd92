// Package dryrun runs an engine in a world where every process succeeds, to predict what a save or a request would
// set off. Time is a number. The prediction is what the engine would decide.
package dryrun

import (
	"container/heap"
	"slices"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// Agenda is a queue of future events, ordered by time. The zero value is empty. It is not safe for concurrent use.
type Agenda struct {
	Now time.Time // on the steady clock
	// Ahead is how far the wall clock is set ahead of that; negative: back.
	Ahead  time.Duration
	items  items
	serial int
}

type item struct {
	at     time.Time
	serial int
	do     func()
}

type items []item

func (a items) Len() int { return len(a) }
func (a items) Less(i, j int) bool {
	return a[i].at.Before(a[j].at) || a[i].at.Equal(a[j].at) && a[i].serial < a[j].serial
}
func (a items) Swap(i, j int) { a[i], a[j] = a[j], a[i] }
func (a *items) Push(x any)   { *a = append(*a, x.(item)) }
func (a *items) Pop() any {
	old := *a
	last := old[len(old)-1]
	*a = old[:len(old)-1]
	return last
}

// origin is the zero of the steady clock.
var origin = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)

// Moment is the current time for an engine.
func (a *Agenda) Moment() engine.Moment {
	return engine.Moment{Wall: a.Now.Add(a.Ahead), Steady: a.Now.Sub(origin)}
}

// In schedules an event after a duration.
func (a *Agenda) In(d time.Duration, do func()) {
	a.serial++
	heap.Push(&a.items, item{a.Now.Add(max(d, 0)), a.serial, do})
}

// Clear takes everything off the agenda.
func (a *Agenda) Clear() { a.items = nil }

// Next runs the next event. It returns false if there is none before the limit.
func (a *Agenda) Next(limit time.Time) bool {
	if len(a.items) == 0 || a.items[0].at.After(limit) {
		return false
	}
	it := heap.Pop(&a.items).(item)
	a.Now = it.at
	it.do()
	return true
}

// Run runs all events of a duration.
func (a *Agenda) Run(d time.Duration) {
	limit := a.Now.Add(d)
	for a.Next(limit) {
	}
	a.Now = limit
}

// Save returns the orders in a current project after a save with these hits, if every process succeeds.
func Save(p *plan.Plan, hits []engine.Hit) []engine.Order {
	r := &rehearsal{engine: engine.New(p), plan: p}
	r.Now = origin
	r.step(engine.Begin{})
	r.Run(time.Hour)
	r.orders = nil
	r.step(engine.Change{Burst: 1, Since: r.Moment(), Hits: hits})
	for _, u := range p.Units {
		if i := slices.IndexFunc(hits, func(h engine.Hit) bool { return h.Unit == u.Name && h.TakenUp }); i >= 0 {
			r.pass(u.Name, r.engine.Snapshot().Unit(u.Name).Run.Number)
		}
	}
	r.Run(time.Hour)
	return r.orders
}

// rehearsal is a world in which everything succeeds.
type rehearsal struct {
	Agenda
	engine *engine.Engine
	plan   *plan.Plan
	orders []engine.Order
}

func (r *rehearsal) step(ev engine.Event) {
	orders := r.engine.Step(r.Moment(), ev)
	r.orders = append(r.orders, orders...)
	for _, o := range orders {
		r.carryOut(o)
	}
}

// pass simulates a pass of a unit that picks up changes by itself.
func (r *rehearsal) pass(unit string, run int) {
	r.In(2*time.Millisecond, func() {
		r.step(engine.PassBegan{Unit: unit, Run: run, After: r.Moment(), By: r.Moment()})
		r.step(engine.PassEnded{Unit: unit, Run: run, Good: true})
	})
}

func (r *rehearsal) carryOut(o engine.Order) {
	soon := func(ev engine.Event) { r.In(time.Millisecond, func() { r.step(ev) }) }
	switch o := o.(type) {
	case engine.Start:
		soon(engine.Spawned{Unit: o.Unit, Run: o.Run, PID: 1})
		soon(engine.BecameReady{Unit: o.Unit, Run: o.Run})
		switch u := r.plan.Unit(o.Unit); {
		case u.Kind.Ends():
			soon(engine.Exited{Unit: o.Unit, Run: o.Run})
		case u.Pass != nil:
			r.pass(o.Unit, o.Run)
		}
	case engine.StopRun:
		soon(engine.Exited{Unit: o.Unit, Run: o.Run, Exit: engine.Exit{Code: -1, Signal: "SIG" + o.Name}})
	case engine.SetTimer:
		r.In(o.After, func() { r.step(engine.TimerFired{Timer: o.Timer}) })
	}
}
