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
		if !e.paused {
			e.paused = true
			e.give(Tell{Tone: ToneStale, Text: "reactions are paused: changes are kept and acted on later"})
			e.enqueueAll()
		}
	case ResumeAll:
		if e.paused {
			e.paused = false
			e.resume(e.units, "reactions are resumed")
		}
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
	case LeaveUnitOut:
		u.ownTaken = true
	case HeedUnit:
		if len(u.own) > 0 {
			e.disown(u)
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
		e.force(u, r)
	}
}

// force makes a unit act whatever holds its reactions, and starts what it needs
// of those that are off.
func (e *Engine) force(u *unit, r *Ripple) {
	u.wanted, u.deaths = true, 0
	a := e.intend(u, r, "you asked")
	a.forced, a.cut, a.whole = true, true, true
	e.wantNeeds(u, r, map[*unit]bool{})
}

func (e *Engine) wantNeeds(u *unit, r *Ripple, seen map[*unit]bool) {
	for _, up := range u.needs {
		if seen[up] {
			continue
		}
		seen[up] = true
		if !up.wanted {
			up.wanted = true
			e.intend(up, r, u.spec.Name+" needs it")
		}
		e.wantNeeds(up, r, seen)
	}
}

// startByWish starts a unit that is off, and what it needs of those that are.
func (e *Engine) startByWish(u *unit) {
	r := e.ripples.open(e.now, Cause{Kind: CauseWish, Text: "you asked to start " + u.spec.Name})
	if u.live() && u.state != Stopping {
		e.wantNeeds(u, r, map[*unit]bool{})
		return
	}
	e.force(u, r)
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
