package engine

import (
	"time"

	"omnivigil/internal/plan"
)

// killPatience is how long a killed run may take before it is reported that it survived SIGKILL.
const killPatience = 3 * time.Second

// stop ends the live run, for a reason. A run that is already ending only gets the new reason.
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

// kill kills a run that did not end after its signal.
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

// killNow kills a run without a grace period.
func (e *Engine) killNow(u *unit) {
	e.stop(u, byRequest)
	if !u.run.killed {
		u.run.killed = true
		e.emit(StopRun{u.spec.Name, u.run.Number, "KILL"})
		e.setTimer(u, graceIsOver, killPatience)
	}
}

// settleQuitting stops a unit as soon as no downstream unit is live.
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

// The pauses before a crashed service is restarted increase from the first to the last of these; after being ready
// for goodStretch it begins with the first again.
var retryPauses = []time.Duration{
	500 * time.Millisecond, 1 * time.Second, 2 * time.Second, 4 * time.Second,
	8 * time.Second, 16 * time.Second, 30 * time.Second,
}

const goodStretch = 30 * time.Second

func (u *unit) retries() bool {
	return u.wanted && u.spec.AfterExit == plan.Retry
}

// pause counts a crash and returns the pause after it.
func (e *Engine) pause(u *unit) time.Duration {
	d := retryPauses[min(u.deaths, len(retryPauses)-1)]
	u.deaths++
	u.retryAt = e.now.Add(d)
	return d
}

// retry restarts a crashed service when its pause is over. If that is impossible now, it is held up like any other
// act, and no timer is needed.
func (e *Engine) retry(u *unit) {
	if !u.retryAt.After(e.now) {
		u.retryAt = Moment{}
		e.show(u)
	}
	if u.state != Crashed || !u.retries() || u.pending != nil || e.quitting {
		return
	}
	exit := u.run.Exit // a copy, because the ripple is kept longer than the run
	reason := Reason{Kind: ReasonRetry, Unit: u.spec.Name, End: &End{State: Crashed, Exit: &exit}}
	r := e.ripples.open(e.now, Cause{Kind: CauseCrash, Unit: u.spec.Name, Reason: reason})
	e.intend(u, r, Reason{Kind: ReasonCrashedOften, Count: u.deaths})
}
