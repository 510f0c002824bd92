package engine

import "time"

// A run that takes long is not a failed one as long as it works: a service that is not ready in time may take longer
// while its processes are busy, and a task that takes much longer than usual is reported. Only a limit ends a run.

const (
	// busyFor is how long processes count as busy after they were seen so.
	busyFor = 5 * time.Second
	// patience is how many times its timeout a busy service may take.
	patience = 10
	// unusual is how many times its usual duration a run may take before that is reported, but at least unusualLeast.
	unusual      = 3
	unusualLeast = 5 * time.Second
)

// Surveyed is what the processes of this machine were seen to use.
type Surveyed struct {
	Load    float64  // the load average of the last minute; 0: unknown
	Foreign int      // whole processors that other programs use
	Busy    []string // units that are starting, and whose processes use CPU
}

// Pace is what is unusual about the duration of a live run. The zero value: nothing.
type Pace struct {
	Slow  bool          // it is not ready in time, but its processes are busy
	Load  float64       // of the machine at that time; 0: unknown
	Usual time.Duration // it has taken much longer than this, its usual duration
}

// surveyed notes how busy units and the machine are.
func (e *Engine) surveyed(ev Surveyed) {
	e.load = ev.Load
	for _, name := range ev.Busy {
		if u := e.byName[name]; u != nil && u.live() && u.state == Starting {
			u.run.busyAt = e.now
		}
	}
	if e.foreign != ev.Foreign {
		e.foreign = ev.Foreign
		for _, u := range e.line { // there may be a job now
			e.show(u)
			e.enqueue(u)
		}
	}
}

// takesLonger lets a service that is not ready in time take longer if it is busy, and reports whether it does.
func (e *Engine) takesLonger(u *unit) bool {
	within := u.spec.Ready.Within
	left := patience*within - e.now.Sub(u.run.spawnedAt)
	if u.run.busyAt.IsZero() || e.now.Sub(u.run.busyAt) > busyFor || left <= 0 {
		return false
	}
	first := !u.run.Pace.Slow
	u.run.Pace.Slow, u.run.Pace.Load = true, e.load
	if first {
		was := u.run.Run
		e.tellRun(u, Fact{Kind: FactRunSlow, Took: left, Over: Over{Run: &was}})
	}
	e.setTimer(u, notReadyInTime, min(within, busyFor, left))
	return true
}

// keepPace sets the timers for the limit and the usual duration of a run whose process has started.
func (e *Engine) keepPace(u *unit) {
	if !u.spec.Kind.Ends() {
		return
	}
	if u.spec.Limit > 0 {
		e.setTimer(u, overLimit, u.spec.Limit)
	}
	if u.usual() > 0 && u.run.narrowed == "" {
		e.setTimer(u, unusuallyLong, max(unusual*u.usual(), unusualLeast))
	}
}

// usual is the usual duration of the unit's runs; 0: unknown.
func (u *unit) usual() time.Duration {
	if u.report.Usual > 0 {
		return u.report.Usual
	}
	return u.lasted
}

// isLong reports that a run takes unusually long.
func (e *Engine) isLong(u *unit) {
	if u.state != Running || u.run.serves {
		return
	}
	u.run.Pace.Usual = u.usual()
	was := u.run.Run
	e.tellRun(u, Fact{Kind: FactRunLong, Took: e.now.Sub(u.run.spawnedAt), Over: Over{Run: &was}})
}

// endOverLimit ends a run that has taken longer than its limit; it has failed.
func (e *Engine) endOverLimit(u *unit) {
	if u.state != Running || u.run.serves {
		return
	}
	u.run.Problem = Problem{Kind: ProblemLimit, Within: u.spec.Limit}
	e.stop(u, byLimit)
}

// jobLimit is how many tasks, suites and setup steps may run at once now: fewer if other programs use processors, and
// at least one; 0: any number.
func (e *Engine) jobLimit() int {
	if e.plan.Jobs == 0 {
		return 0
	}
	return max(1, e.plan.Jobs-e.foreign)
}
