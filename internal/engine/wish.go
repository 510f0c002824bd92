package engine

// wished does what a person asks for.
func (e *Engine) wished(ev Wished) {
	if e.leaving && ev.Wish != LeaveNow {
		return
	}
	u := e.byName[ev.Unit]
	switch ev.Wish {
	case Leave:
		e.leaving = true
		e.enqueueAll()
	case LeaveNow:
		e.leaving = true
		for _, u := range e.units {
			if u.live() {
				e.killNow(u)
			}
		}
		e.enqueueAll()
	case PauseAll:
		e.paused = true
		e.enqueueAll()
	case ResumeAll:
		e.paused = false
		e.resume(e.units, "reactions are resumed")
	case RestartAll:
		e.restart(e.wantedUnits(), "everything")
	}
	if u == nil {
		return
	}
	switch ev.Wish {
	case StartUnit:
		e.startByWish(u)
	case RestartUnit:
		if u.state == Idle || u.state == Off {
			e.startByWish(u)
			return
		}
		e.restart([]*unit{u}, u.spec.Name)
	case StopUnit:
		e.off(u)
	case PauseUnit:
		u.paused = true
		e.enqueue(u)
	case ResumeUnit:
		u.paused = false
		e.resume([]*unit{u}, u.spec.Name+" is resumed")
	}
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

// restart runs units anew although nothing may have changed.
func (e *Engine) restart(units []*unit, what string) {
	r := e.ripples.open(e.now, Cause{Kind: CauseWish, Text: "you asked to restart " + what})
	for _, u := range units {
		u.wanted, u.deaths = true, 0
		e.intend(u, r, "you asked").forced = true
	}
}

// startByWish starts a unit that is off, and what it needs of those that are.
func (e *Engine) startByWish(u *unit) {
	if u.live() && u.state != Stopping {
		return
	}
	r := e.ripples.open(e.now, Cause{Kind: CauseWish, Text: "you asked to start " + u.spec.Name})
	u.wanted = true
	e.intend(u, r, "you asked").forced = true
	var want func(u *unit)
	want = func(u *unit) {
		for _, up := range u.needs {
			if !up.wanted {
				up.wanted = true
				e.intend(up, r, u.spec.Name+" needs it")
			}
			want(up)
		}
	}
	want(u)
}

func (e *Engine) off(u *unit) {
	u.wanted, u.pending, u.deaths = false, nil, 0
	e.enqueue(u)
	switch {
	case u.live():
		r := e.ripples.open(e.now, Cause{Kind: CauseWish, Text: "you asked to stop " + u.spec.Name})
		r.take(u)
		u.run.ripples = append(u.run.ripples, r)
		e.stop(u, byWish)
	default:
		u.state = Off
	}
}

// resume lets units act on what was kept for them while they were paused.
func (e *Engine) resume(units []*unit, text string) {
	r := e.ripples.open(e.now, Cause{Kind: CauseWish, Text: text})
	for _, u := range units {
		e.enqueue(u)
		if u.pending != nil {
			e.intend(u, r, "")
		}
	}
}
