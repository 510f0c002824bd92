// Package engine makes every decision of Omnivigil: which unit starts, restarts, waits or stops, when, and why; and
// whether what runs is current.
//
// It is pure. An Engine has no clock, no goroutine, no file and no process: Step takes the time and an event and
// returns orders, and the same events always give the same orders. Ten minutes of a project can therefore be tested
// in a microsecond, and a user's recorded session is a test as well. Start reading at Engine.Step and events.go.
//
// # Revisions
//
// Every burst of writes that affects a unit increments a counter, the revision. A unit remembers the newest revision
// that touched it, and each run the newest revision at the time of its order. A run is current only if nothing newer
// has touched its unit and the same is true of everything that the unit follows. The rule errs on one side: a run may
// be taken for stale although it read the new file in time, never the other way round.
//
// # Settling
//
// An event only records what a unit should do (its act). Then the units that could be affected are settled in the
// order of needs, each of them looking only at those before it, so one pass is enough and its cost grows with the
// number of affected units.
package engine

import (
	"container/heap"
	"slices"
	"time"

	"omnivigil/internal/plan"
)

// revision counts the writes that affect any unit.
type revision uint64

// Engine is the state of a running project. The zero value is not usable; call
// New. It is not safe for concurrent use.
type Engine struct {
	plan   *plan.Plan
	units  []*unit // each after everything that it waits for
	byName map[string]*unit
	clocks
	rev     revision
	orders  []Order
	queue   rankHeap
	timers  map[TimerID]timer
	lastID  TimerID
	ripples ledger
	history
	noted
	standings standings
	settings
	phase
	machine
}

// clocks are the time of the current step, and what is known of the wall clock.
type clocks struct {
	now      Moment
	clockSet Moment    // when the wall clock was last set
	latest   time.Time // the latest time that the wall clock has shown
}

// machine is what is known of the machine.
type machine struct {
	load    float64
	foreign int // whole processors that other programs use
}

// history is what is kept of saves and runs.
type history struct {
	saves     []Save
	newest    *Ripple        // of the newest save, even if later ripples came
	numbers   map[string]int // newest runs of units that were removed from the settings and may return
	startedIn time.Duration  // how long the start took to come to rest
}

// noted are units in certain states, and changes that are held back.
type noted struct {
	line    []*unit  // units that wait for a job
	setOff  []*unit  // units that changes have recently set off
	worded  []*unit  // units with arguments added by the user
	reports []*unit  // units with a report
	held    []Change // changes that wait until their writer is known
}

// settings are the state of the settings file and the files that it names: the newest burst of writes, and the newest
// that has been read. In between the project is updating.
type settings struct {
	settingsTouched, settingsRead int
	settingsSince                 Moment
	broken                        string // what is wrong with the newest; empty: nothing
}

// phase is what the project does as a whole.
type phase struct {
	begun     bool
	paused    bool
	unwatched string // why files are not watched; empty: they are
	quitting  bool
	gone      bool
}

// New returns an engine for a project in which nothing is running.
func New(p *plan.Plan) *Engine {
	e := &Engine{byName: map[string]*unit{}, timers: map[TimerID]timer{}, history: history{numbers: map[string]int{}}}
	for _, spec := range p.Units {
		e.byName[spec.Name] = newUnit(spec)
	}
	e.connect(p)
	return e
}

// Step handles an event at a time and returns the orders, in sequence. Events about ended runs, and repeated events,
// change nothing.
func (e *Engine) Step(now Moment, event Event) []Order {
	e.passTo(now)
	e.orders = e.orders[len(e.orders):]
	switch ev := event.(type) {
	case Begin:
		e.begin(ev)
	case Touched:
		e.touched(ev)
	case Change:
		e.refreshPages(ev)
		e.change(ev)
	case Unchanged:
		e.unchanged(ev)
	case Observed:
		e.observed(ev)
	case PassBegan:
		e.passBegan(ev)
	case PassEnded:
		e.passEnded(ev)
	case SettingUp:
		e.settingUp(ev)
	case Spawned:
		e.spawned(ev)
	case NotSpawned:
		e.notSpawned(ev)
	case BecameReady:
		e.becameReady(ev)
	case Probed:
		e.probed(ev)
	case Checked:
		e.checked(ev)
	case Asks:
		e.asks(ev)
	case Listens:
		e.listens(ev)
	case Reported:
		e.reported(ev)
	case Exited:
		e.exited(ev)
	case Reused:
		e.reused(ev)
	case Surveyed:
		e.surveyed(ev)
	case TimerFired:
		e.timerFired(ev)
	case Requested:
		e.requested(ev)
	case SettingsTouched:
		e.touchSettings(ev)
	case NewPlan:
		e.newPlan(ev)
	case PlanBroken:
		e.planBroken(ev)
	case OutputsGone:
		e.outputsGone(ev)
	case OutputChanged:
		e.outputChanged(ev)
	case Uncovered:
		e.uncovered(ev)
	case Unwatched:
		e.notWatched(ev)
	}
	e.ripples.announce(e)
	e.settleAll()
	if len(e.orders) == 0 {
		return nil
	}
	return slices.Clip(e.orders)
}

// emit orders something. The orders of many steps share an array, of which each step returns its own part.
func (e *Engine) emit(o Order) {
	if n := len(e.orders); n == cap(e.orders) {
		e.orders = append(make([]Order, 0, n+64), e.orders...)
	}
	e.orders = append(e.orders, o)
}

func (e *Engine) begin(ev Begin) {
	if e.begun {
		return
	}
	e.begun = true
	cause := Cause{Kind: CauseStart, Reason: Reason{Kind: ReasonProjectStart}}
	r := e.ripples.open(e.now, cause)
	units, _ := e.plan.WithNeeds(ev.Units)
	if len(ev.Units) == 0 {
		units = e.plan.Units
	}
	for _, spec := range units {
		if len(ev.Units) == 0 && spec.Manual {
			continue
		}
		u := e.byName[spec.Name]
		u.wanted = true
		if len(ev.Words) > 0 && slices.Contains(ev.Units, spec.Name) {
			e.holdWords(u, ev.Words)
		}
		if hits := hitsOf(ev.Hits, spec.Name); len(hits) > 0 {
			u.owed = pendingWork{} // and nothing else
			e.askFor(u, r, hits)
		} else {
			e.intend(u, r, cause.Reason)
		}
	}
}

func hitsOf(all []Hit, unit string) []Hit {
	return slices.DeleteFunc(slices.Clone(all), func(h Hit) bool { return h.Unit != unit })
}

// notWatched records that files are no longer watched, or watched again. Pending bursts will not be reported as
// settled.
func (e *Engine) notWatched(ev Unwatched) {
	if ev.Problem == e.unwatched {
		return
	}
	e.unwatched = ev.Problem
	e.tell(Fact{Kind: FactUnwatched, Problem: told(ev.Problem)})
	e.settingsRead = e.settingsTouched
	for _, u := range e.units {
		for _, t := range u.touches {
			u.settled = max(u.settled, t.last)
		}
		u.touches = nil
	}
	e.enqueueAll()
}

// settleAll settles every queued unit, and the units that depend on it.
func (e *Engine) settleAll() {
	for len(e.queue) > 0 || e.grantJob() {
		u := heap.Pop(&e.queue).(*unit)
		u.queued = false
		e.settle(u)
		e.recompute(u)
	}
	e.ripples.settle(e)
	e.dropRemoved()
	e.enter()
	if e.quitting && !e.gone && !e.anyLive() {
		e.gone = true
		e.emit(Finish{})
	}
}

// enqueue schedules a unit to be settled in this step.
func (e *Engine) enqueue(u *unit) {
	e.show(u)
	if !u.queued {
		u.queued = true
		heap.Push(&e.queue, u)
	}
}

func (e *Engine) enqueueAll() {
	for _, u := range e.units {
		e.enqueue(u)
	}
}

func (e *Engine) anyLive() bool {
	for _, u := range e.units {
		if u.live() {
			return true
		}
	}
	return false
}

// rankHeap orders units so that each comes after everything that it waits for.
type rankHeap []*unit

func (h rankHeap) Len() int           { return len(h) }
func (h rankHeap) Less(i, j int) bool { return h[i].rank < h[j].rank }
func (h rankHeap) Swap(i, j int)      { h[i], h[j] = h[j], h[i] }
func (h *rankHeap) Push(x any)        { *h = append(*h, x.(*unit)) }
func (h *rankHeap) Pop() any {
	old := *h
	u := old[len(old)-1]
	*h = old[:len(old)-1]
	return u
}
