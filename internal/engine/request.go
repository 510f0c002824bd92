package engine

// requested does what a person asks for.
func (e *Engine) requested(ev Requested) {
	if e.quitting && ev.Request != QuitNow {
		return
	}
	u := e.byName[ev.Unit]
	switch ev.Request {
	case Quit:
		e.quitting = true
		e.enqueueAll()
	case QuitNow:
		e.quitting = true
		for _, u := range e.units {
			if u.live() {
				e.killNow(u)
			}
		}
		e.enqueueAll()
	case PauseAll:
		if !e.paused {
			e.paused = true
			e.give(Tell{Tone: ToneStale, Text: "all reactions paused: changes are kept and acted on later"})
			e.enqueueAll()
		}
	case ResumeAll:
		if e.paused {
			e.paused = false
			e.resume(e.units, "all reactions resumed")
		}
	case RestartAll:
		e.restart(e.wantedUnits(), "everything")
	}
	if u == nil {
		return
	}
	switch ev.Request {
	case StartUnit:
		e.startByRequest(u)
	case RestartUnit:
		e.restartUnit(u)
	case SetUpUnit:
		e.restartUnit(u)
		if u.pending != nil {
			u.pending.setup = true
		}
	case StopUnit:
		e.stopByRequest(u)
	case KeepIgnoring:
		if u.loop != nil {
			noted := *u.loop
			noted.Noted = true
			u.loop = &noted
		}
	case ReactAgain:
		if u.loop != nil {
			e.reactAgain(u)
			e.tellRun(u, TellNote, ToneNone, "reacts to all its files again")
		}
	case PauseUnit:
		u.paused = true
		e.enqueue(u)
	case ResumeUnit:
		if !u.paused {
			return
		}
		u.paused = false
		e.resume([]*unit{u}, u.spec.Name+" resumed")
	}
}

func (e *Engine) restartUnit(u *unit) {
	if u.state == Idle || u.state == Stopped {
		e.startByRequest(u)
		return
	}
	e.restart([]*unit{u}, u.spec.Name)
}

func (e *Engine) wantedUnits() []*unit {
	var units []*unit
	for _, u := range e.units {
		if u.wanted {
			units = append(units, u)
		}
	}
	return units
}

// restart restarts or reruns units although nothing may have changed.
func (e *Engine) restart(units []*unit, what string) {
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Text: "you asked to restart " + what})
	for _, u := range units {
		e.force(u, r)
	}
}

// force makes a unit act although reactions may be paused, and starts what it needs
// and does not run.
func (e *Engine) force(u *unit, r *Ripple) {
	u.wanted, u.deaths = true, 0
	a := e.intend(u, r, "you asked")
	a.forced, a.cut = true, true
	e.wantNeeds(u, r, map[*unit]bool{})
}

func (e *Engine) wantNeeds(u *unit, r *Ripple, seen map[*unit]bool) {
	for _, up := range u.needs {
		if seen[up] {
			continue
		}
		seen[up] = true
		if !up.wanted && !(up.satisfied() && up.upToDate) {
			up.wanted = true
			e.intend(up, r, u.spec.Name+" needs it")
		}
		e.wantNeeds(up, r, seen)
	}
}

// startByRequest starts a unit that does not run, and what it needs of those that do not.
func (e *Engine) startByRequest(u *unit) {
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Text: "you asked to start " + u.spec.Name})
	if u.live() && u.state != Stopping {
		e.wantNeeds(u, r, map[*unit]bool{})
		return
	}
	e.force(u, r)
}

// stopByRequest stops a unit until it is started again by request.
func (e *Engine) stopByRequest(u *unit) {
	u.wanted, u.deaths = false, 0
	u.dropPending()
	e.enqueue(u)
	switch {
	case u.live():
		r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Text: "you asked to stop " + u.spec.Name})
		r.take(u)
		u.run.ripples = append(u.run.ripples, r)
		e.stop(u, byRequest)
	default:
		u.state = Stopped
	}
}

// resume lets units act on what was kept for them while they were paused.
func (e *Engine) resume(units []*unit, text string) {
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Text: text})
	for _, u := range units {
		e.enqueue(u)
		if u.pending != nil {
			e.intend(u, r, "")
		}
	}
}
