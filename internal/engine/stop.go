package engine

import (
	"time"

	"omnivigil/internal/plan"
)

// killPatience is how long a killed run may take before Omnivigil says that the
// system does not end it.
const killPatience = 3 * time.Second

// stop asks the live run to end, for that reason. A run that is ending already
// only learns the new reason.
func (e *Engine) stop(u *unit, why ending) {
	u.ending = why
	if u.state == Stopping {
		return
	}
	u.state = Stopping
	u.run.span(e.now, Span{Phase: PhaseStopping})
	e.emit(StopRun{u.spec.Name, u.run.Number, u.spec.Stop.Signal})
	e.setTimer(u, graceIsOver, u.spec.Stop.Grace)
}

// kill ends a run that did not end at its signal.
func (e *Engine) kill(u *unit) {
	if !u.live() || u.state != Stopping {
		return
	}
	if u.run.killed {
		e.tellRun(u, Fact{Kind: FactRunStuck, PID: u.run.PID})
		if e.quitting {
			u.run.Problem = Problem{Kind: ProblemSurvived}
			e.ended(u, End{State: Stopped, Problem: u.run.Problem})
		}
		return
	}
	u.run.killed = true
	e.emit(StopRun{u.spec.Name, u.run.Number, "KILL"})
	e.tellRun(u, Fact{Kind: FactRunKilled, Took: u.spec.Stop.Grace})
	e.setTimer(u, graceIsOver, killPatience)
}

// killNow ends a run without its grace.
func (e *Engine) killNow(u *unit) {
	e.stop(u, byRequest)
	if !u.run.killed {
		u.run.killed = true
		e.emit(StopRun{u.spec.Name, u.run.Number, "KILL"})
		e.setTimer(u, graceIsOver, killPatience)
	}
}

// settleQuitting stops a unit as soon as no unit downstream lives.
func (e *Engine) settleQuitting(u *unit) {
	u.dropPending()
	u.wanted, u.obstacle = false, nil
	if !u.live() {
		if u.state == Waiting {
			u.state = Stopped
		}
		return
	}
	for _, d := range u.downstream {
		if d.live() {
			return
		}
	}
	e.stop(u, byRequest)
}

// Pauses before a crashed service is started again grow from the first to the
// last of these; a service that was ready for goodStretch begins again.
var retryPauses = []time.Duration{
	500 * time.Millisecond, 1 * time.Second, 2 * time.Second, 4 * time.Second,
	8 * time.Second, 16 * time.Second, 30 * time.Second,
}

const goodStretch = 30 * time.Second

func (u *unit) retries() bool {
	return u.wanted && u.spec.AfterExit == plan.Retry
}

// pause counts a death and returns how long to wait after it.
func (e *Engine) pause(u *unit) time.Duration {
	d := retryPauses[min(u.deaths, len(retryPauses)-1)]
	u.deaths++
	u.retryAt = e.now.Add(d)
	return d
}

// retry starts a crashed service again when its pause is over. Where that cannot go ahead now, it is held up like any
// other act, and no longer a matter of time.
func (e *Engine) retry(u *unit) {
	if !u.retryAt.After(e.now) {
		u.retryAt = Moment{}
		e.show(u)
	}
	if u.state != Crashed || !u.retries() || u.pending != nil || e.quitting {
		return
	}
	exit := u.run.Exit // a copy: the ripple is kept for longer than the run
	reason := Reason{Kind: ReasonRetry, Unit: u.spec.Name, End: &End{State: Crashed, Exit: &exit}}
	r := e.ripples.open(e.now, Cause{Kind: CauseCrash, Unit: u.spec.Name, Reason: reason})
	e.intend(u, r, Reason{Kind: ReasonCrashedOften, Count: u.deaths})
}
