package engine

// A service that is ready may stop doing its work although its process lives. The session looks from time to
// time, and the service counts as failed until it is seen to be well again. It is the same run: what follows it does
// not act again, and what only waited for it starts.

// checked takes note of what a look at a service found.
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

// recovered makes a service ready that was in trouble, and lets those start that wait for it.
func (e *Engine) recovered(u *unit) {
	u.state, u.run.failed, u.run.ails, u.run.Problem = Ready, false, false, Problem{}
	e.tellRun(u, Fact{Kind: FactRunReady})
	e.enqueue(u)
	for _, d := range u.downstream {
		e.enqueue(d)
	}
	var r *Ripple // one for all, opened when there is any
	e.release(u, func() *Ripple {
		if r == nil {
			r = e.ripples.open(e.now, Cause{Kind: CauseRelease, Unit: u.spec.Name,
				Reason: Reason{Kind: ReasonReadyAgain, Unit: u.spec.Name}})
		}
		return r
	})
}
