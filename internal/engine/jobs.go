package engine

import (
	"slices"
	"time"

	"omnivigil/internal/plan"
)

// At most so many tasks, suites and setup steps run at once: each has a job while it runs. A unit that finds none
// free waits in line. The unit with the longest chain of waiting units behind it goes first, unless another one has
// waited very long.

// takesJob reports whether the unit's next run needs a job from its start. Services, and what may turn out to be one,
// need one only for their setup steps.
func (u *unit) takesJob() bool { return u.spec.Kind.Ends() && !u.spec.MayServe }

// queueForJob puts the unit in line for a job.
func (e *Engine) queueForJob(u *unit) {
	if !slices.Contains(e.line, u) {
		e.line = append(e.line, u)
		u.queuedAt = e.now
	}
}

// inLine reports whether the unit is still in line for a job.
func (u *unit) inLine() bool {
	if u.live() {
		return u.run.stepWaits && u.state == Setup
	}
	return u.pending != nil && u.obstacle != nil && u.obstacle.job
}

// grantJob gives a free job to the first in line and reports whether there was one.
func (e *Engine) grantJob() bool {
	e.line = slices.DeleteFunc(e.line, func(u *unit) bool { return !u.inLine() })
	if len(e.line) == 0 {
		return false
	}
	working := e.working()
	if limit := e.jobLimit(); limit > 0 && len(working) >= limit {
		return false
	}
	line := e.beforeSuites()
	if len(line) == 0 {
		return false
	}
	first, longest := line[0], time.Duration(-1)
	known := map[*unit]time.Duration{}
	for _, u := range line {
		if weight := u.chainOf(known) + e.now.Sub(u.queuedAt); weight > longest {
			first, longest = u, weight
		}
	}
	if len(working) > 0 && (first.spec.Alone || working[0].spec.Alone) {
		return false // no other overtakes it
	}
	switch {
	case first.live():
		first.run.stepWaits = false
		e.proceed(first)
	case e.obstacleOf(first) == nil:
		first.obstacle = nil
		e.start(first)
	default: // something else now keeps it from running
		first.obstacle = nil
	}
	e.enqueue(first)
	return true
}

// beforeSuites returns the units in line that may go now: while a setup step of a service waits or is to come, no suite
// begins, because users wait for the service.
func (e *Engine) beforeSuites() []*unit {
	if !slices.ContainsFunc(e.units, (*unit).preparesService) {
		return e.line
	}
	return slices.DeleteFunc(slices.Clone(e.line), func(u *unit) bool { return u.spec.Kind == plan.Suite })
}

// preparesService reports whether the unit is a service whose setup steps wait for a job, or may be about to.
func (u *unit) preparesService() bool {
	return len(u.spec.Setup) > 0 && !u.spec.Kind.Ends() && u.live() && !u.run.spawned && !u.run.job &&
		u.state != Stopping
}

// working returns the units with a job.
func (e *Engine) working() []*unit {
	return slices.DeleteFunc(slices.Clone(e.units), func(u *unit) bool { return !u.live() || !u.run.job })
}

// assumedDuration is the assumed duration of a run of which nothing is known.
const assumedDuration = time.Second

// chainOf is the known duration of the longest chain of units that begins with this one and in which each waits for
// the one before.
func (u *unit) chainOf(known map[*unit]time.Duration) time.Duration {
	if d, ok := known[u]; ok {
		return d
	}
	rest := time.Duration(0)
	for _, d := range u.downstream {
		if d.wanted && (d.pending != nil || slices.Contains(u.followers, d)) {
			rest = max(rest, d.chainOf(known))
		}
	}
	own := u.lasted
	if own == 0 {
		own = assumedDuration
	}
	known[u] = own + rest
	return known[u]
}

// proceed lets a step begin.
func (e *Engine) proceed(u *unit) {
	u.run.job = u.run.job || u.run.heavy
	u.run.span(e.now, Span{Phase: PhaseSetup, Step: u.run.step})
	e.emit(Proceed{u.spec.Name, u.run.Number})
	e.tellRun(u, Fact{Kind: FactStepStarted, Command: u.run.step})
}
