package engine

import (
	"slices"

	"omnivigil/internal/plan"
)

// intend records that the unit should run as a whole, as part of ripple r. Without a reason it only adds the ripple
// to what the unit should do already.
func (e *Engine) intend(u *unit, r *Ripple, reason Reason) *act {
	return e.ask(u, r, reason, pendingWork{whole: true})
}

// ask records that the unit should run something, as part of ripple r.
func (e *Engine) ask(u *unit, r *Ripple, reason Reason, what pendingWork) *act {
	if u.pending == nil {
		u.pending = &act{}
		u.pending.asks.add(what)
	}
	a := u.pending
	a.join(r)
	if reason.Kind != ReasonNone {
		a.asks.add(what)
		a.chain, a.lookout = nil, Moment{} // whatever the suspicion, here is another reason
		if !slices.ContainsFunc(a.reasons, reason.equal) {
			a.reasons = append(a.reasons, reason)
		}
	}
	r.take(u)
	e.enqueue(u)
	return a
}

func (a *act) join(r *Ripple) {
	if !slices.Contains(a.ripples, r) {
		a.ripples = append(a.ripples, r)
	}
}

// inherit takes over the ripples whose work a run leaves undone.
func (a *act) inherit(r *run) {
	own := a.ripples
	a.ripples = nil
	for _, rip := range r.ripples {
		if !rip.Resting() {
			a.join(rip)
		}
	}
	for _, rip := range own {
		a.join(rip)
	}
}

func (a *act) anyOpen() bool {
	return slices.ContainsFunc(a.ripples, func(r *Ripple) bool { return !r.Resting() })
}

// settle lets a unit do what it should, if nothing holds it.
func (e *Engine) settle(u *unit) {
	if e.quitting {
		e.settleQuitting(u)
		return
	}
	u.obstacle = nil
	e.handOn(u)
	if u.pending == nil {
		return
	}
	if u.obstacle = e.obstacleOf(u); u.obstacle != nil {
		e.wait(u)
		return
	}
	switch {
	case !u.live() && u.takesJob():
		u.obstacle = &obstacle{job: true}
		e.wait(u)
		e.queueForJob(u)
	case !u.live():
		e.start(u)
	case u.state == Stopping:
	case u.state == Running && u.spec.Overlap == plan.Finish && !u.pending.cut:
		u.pending.span(e.now, Span{Phase: PhaseQueued})
	default:
		u.pending.span(e.now, Span{Phase: PhaseStopping})
		if u.atWork() {
			u.pending.inherit(u.run)
		}
		e.stop(u, toAct)
	}
}

// wait shows a held unit as waiting if it has nothing else to show: a unit that is held for good returns to its
// state, one that has never run keeps waiting.
func (e *Engine) wait(u *unit) {
	span := Span{Phase: PhaseWaiting}
	switch {
	case u.obstacle.on != nil:
		span.On = u.obstacle.on.spec.Name
	case u.obstacle.job:
		span.Phase = PhaseQueued
	}
	u.pending.span(e.now, span)
	if !u.live() && (u.state == Idle || !u.obstacle.final) {
		u.state = Waiting
	}
}

// obstacleOf returns what keeps a unit from acting now: first what will pass by itself, so that a unit is shown as
// held for good only when everything is at rest.
func (e *Engine) obstacleOf(u *unit) *obstacle {
	if (e.paused || u.paused) && !u.pending.forced {
		return &obstacle{final: true}
	}
	if u.spec.ComparesTimes && u.stirring() {
		return &obstacle{settles: true}
	}
	for _, up := range u.needs {
		if up.moving {
			return &obstacle{on: up}
		}
	}
	for _, up := range u.follows {
		if up.moving {
			return &obstacle{on: up}
		}
	}
	for _, up := range u.needs {
		if !up.satisfied() {
			return &obstacle{on: up, final: true}
		}
	}
	if u.pending.forced {
		return nil
	}
	for _, up := range u.follows {
		if !up.upToDate {
			return &obstacle{on: up, final: true}
		}
	}
	if u.pending.lookout.After(e.now) {
		return &obstacle{lookout: true}
	}
	return nil
}

// recompute derives what other units may know of a unit, after it has been settled, and queues the units that depend
// on it if that has changed.
func (e *Engine) recompute(u *unit) {
	moving, upToDate := e.isMoving(u), e.isUpToDate(u)
	changed := moving != u.moving || upToDate != u.upToDate
	u.moving, u.upToDate = moving, upToDate
	e.mark(u)
	if changed {
		for _, d := range u.downstream {
			e.enqueue(d)
		}
	}
}

func (e *Engine) isMoving(u *unit) bool {
	if u.atWork() {
		return true
	}
	if u.pending != nil {
		return u.obstacle == nil || !u.obstacle.final
	}
	if !u.wanted || e.paused || u.paused || e.quitting {
		return false
	}
	for _, f := range u.follows {
		if f.moving {
			return true
		}
	}
	return u.stirring()
}

// isUpToDate reports whether the newest good run has the newest code, so that followers may build on it. A unit that
// is not enabled and has not been touched holds no unit up.
func (e *Engine) isUpToDate(u *unit) bool {
	if u.run != nil && u.run.narrowed != "" {
		return false // it does not cover the other cases
	}
	if u.generation == 0 {
		return !u.wanted && u.touched == 0 && !u.news && !e.quitting
	}
	if u.goodRead < u.touched || !u.owed.empty() || u.news {
		return false
	}
	if u.spec.Pass != nil && u.pending != nil {
		return false // there is something that its passes do not pick up
	}
	for _, f := range u.follows {
		if !f.upToDate || u.goodBuiltOn[f.spec.Name] != f.generation {
			return false
		}
	}
	return true
}

// keptMarks is how much of a unit's life, and how many saves, an engine keeps at least.
const keptMarks = 4000

// mark extends the unit's life when its visible state has changed.
func (e *Engine) mark(u *unit) {
	m := Mark{At: e.now, State: u.state, Stale: u.freshness() == Stale}
	if u.run != nil {
		m.Run = u.run.Number
	}
	if n := len(u.marks); n > 0 {
		last := u.marks[n-1]
		if last.State == m.State && last.Stale == m.Stale && last.Run == m.Run {
			return
		}
	}
	u.marks = append(u.marks, m)
	if len(u.marks) > 2*keptMarks {
		u.marks = append([]Mark(nil), u.marks[keptMarks:]...)
	}
}
