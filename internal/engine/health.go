package engine

// A service that is ready may stop working although its process lives. The session checks from time to time, and the
// service counts as failed until a check succeeds. It is the same run: its followers do not act again, and units that
// only waited for it start.

// checked handles the result of a check of a service.
func (e *Engine) checked(ev Checked) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil || u.spec.Pass != nil || u.spec.Relay != nil && u.state == Ready && !e.misses(u, ev.Problem) {
		return
	}
	switch {
	case ev.Problem != "" && u.state == Ready:
		u.state, u.run.failed, u.run.ails = Failed, true, true
		u.run.Problem = told(ev.Problem)
		e.tellRun(u, Fact{Kind: FactRunLate, Problem: u.run.Problem})
		e.enqueue(u)
	case ev.Problem == "" && u.state == Failed && u.run.ails:
		e.recovered(u)
	}
}

// recovered makes a service ready that had failed a check, and lets the units start that wait for it.
func (e *Engine) recovered(u *unit) {
	u.state, u.run.failed, u.run.ails, u.run.Problem = Ready, false, false, Problem{}
	e.tellRun(u, Fact{Kind: FactRunReady})
	e.enqueue(u)
	for _, d := range u.downstream {
		e.enqueue(d)
	}
	var r *Ripple // one for all, opened on demand
	e.release(u, func() *Ripple {
		if r == nil {
			r = e.ripples.open(e.now, Cause{Kind: CauseRelease, Unit: u.spec.Name,
				Reason: Reason{Kind: ReasonReadyAgain, Unit: u.spec.Name}})
		}
		return r
	})
}
