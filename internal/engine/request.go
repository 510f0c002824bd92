package engine

import (
	"slices"
)

// requested carries out a request, and answers it.
func (e *Engine) requested(ev Requested) {
	answer := Answer{ID: ev.ID}
	before := e.ripples.lastID
	answer.Refusal = e.carryOut(ev)
	if e.ripples.lastID > before {
		answer.Ripple = e.ripples.lastID
	}
	e.emit(answer)
}

// carryOut carries out a request, or returns why not.
func (e *Engine) carryOut(ev Requested) Refusal {
	if e.quitting && ev.Request != QuitNow && ev.Request != Quit {
		return Refusal{Kind: RefusedEnding}
	}
	units := make([]*unit, len(ev.Units))
	for i, name := range ev.Units {
		if units[i] = e.byName[name]; units[i] == nil || units[i].removed {
			return Refusal{Kind: RefusedUnknownUnit, Unit: name}
		}
	}
	if ev.Request == RestartUnit && len(ev.Hits) > 0 {
		e.restartFor(units, ev.Hits)
		return Refusal{}
	}
	if of, known := ofUnits[ev.Request]; known {
		if len(units) == 0 {
			return Refusal{Kind: RefusedNoUnit, Request: ev.Request}
		}
		of(e, units)
		return Refusal{}
	}
	switch ev.Request {
	case AddWords, RunWith:
		if len(units) == 0 {
			return Refusal{Kind: RefusedNoUnit, Request: ev.Request}
		}
		if ev.Request == AddWords {
			e.addWords(units, ev.Words)
		} else {
			e.runWith(units, ev.Words)
		}
	case Narrow:
		if len(units) == 0 || len(ev.Words) == 0 || ev.To == "" {
			return Refusal{Kind: RefusedNoUnit, Request: ev.Request}
		}
		if i := slices.IndexFunc(units, func(u *unit) bool { return !u.spec.Kind.Ends() }); i >= 0 {
			return Refusal{Kind: RefusedService, Unit: units[i].spec.Name}
		}
		e.narrow(units, ev.Words, ev.To)
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
			e.tell(Fact{Kind: FactPaused})
			e.enqueueAll()
		}
	case ResumeAll:
		if e.paused || len(e.standings.paused) > 0 {
			e.paused = false
			for _, u := range slices.Clone(e.standings.paused) { // by name
				u.paused = false
			}
			e.tell(Fact{Kind: FactResumed})
			e.resume(e.units, nil)
		}
	case Dismiss:
		e.dismiss(units)
	case Only:
		e.only(units)
	case RestartAll:
		e.restart(e.wantedUnits(), nil)
	default:
		return Refusal{Kind: RefusedUnknown, Request: ev.Request}
	}
	return Refusal{}
}

// ofUnits are the requests about units.
var ofUnits = map[Request]func(*Engine, []*unit){
	StartUnit:    (*Engine).startByRequest,
	StopUnit:     (*Engine).stopByRequest,
	RestartUnit:  (*Engine).restartUnits,
	SetUpUnit:    (*Engine).setUp,
	PauseUnit:    (*Engine).pauseUnits,
	ResumeUnit:   (*Engine).resumeUnits,
	KeepIgnoring: (*Engine).keepIgnoring,
	ReactAgain:   (*Engine).reactsAgain,
	Widen:        (*Engine).widen,
}

func (e *Engine) setUp(units []*unit) {
	e.restartUnits(units)
	for _, u := range units {
		if u.pending != nil {
			u.pending.setup = true
		}
	}
}

func (e *Engine) pauseUnits(units []*unit) {
	for _, u := range units {
		if !u.paused {
			u.paused = true
			e.tell(Fact{Kind: FactPaused, Unit: u.spec.Name})
			e.enqueue(u)
		}
	}
}

func (e *Engine) resumeUnits(units []*unit) {
	units = slices.DeleteFunc(units, func(u *unit) bool { return !u.paused })
	if len(units) == 0 {
		return
	}
	for _, u := range units {
		u.paused = false
		e.tell(Fact{Kind: FactResumed, Unit: u.spec.Name})
	}
	e.resume(units, namesOf(units))
}

func (e *Engine) keepIgnoring(units []*unit) {
	for _, u := range units {
		if u.loop != nil {
			noted := *u.loop
			noted.Noted = true
			u.loop = &noted
			e.show(u)
		}
	}
}

func (e *Engine) reactsAgain(units []*unit) {
	for _, u := range units {
		if u.loop != nil {
			e.reactAgain(u)
			e.tellRun(u, Fact{Kind: FactLoopForgotten})
		}
	}
}

// restartUnits restarts or reruns units that are running, and starts the others.
func (e *Engine) restartUnits(units []*unit) {
	var idle, others []*unit
	for _, u := range units {
		if u.state == Idle || u.state == Stopped {
			idle = append(idle, u)
		} else {
			others = append(others, u)
		}
	}
	switch {
	case len(others) == 0:
		e.startByRequest(idle)
	default:
		e.restart(units, namesOf(units))
	}
}

// addWords adds arguments to the commands of units, from now on.
func (e *Engine) addWords(units []*unit, words []string) {
	reason := Reason{Kind: ReasonArguments, Words: words}
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Reason: reason})
	for _, u := range units {
		e.holdWords(u, words)
		e.force(u, r, reason)
	}
}

// holdWords sets the arguments that are added to a unit's command from now on.
func (e *Engine) holdWords(u *unit, words []string) {
	if u.words = slices.Clone(words); !slices.Contains(e.worded, u) {
		e.worded = append(e.worded, u)
	}
}

// runWith reruns or restarts units once with these arguments added, and no others.
func (e *Engine) runWith(units []*unit, words []string) {
	reason := Reason{Kind: ReasonAskedOnce, Words: words}
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Reason: reason})
	for _, u := range units {
		a := e.force(u, r, reason)
		a.once, a.words = true, words
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

// restart restarts or reruns units even if nothing has changed. Names are those in the request.
func (e *Engine) restart(units []*unit, names []string) {
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Reason: Reason{Kind: ReasonAskedRestart, Units: names}})
	for _, u := range units {
		e.force(u, r, Reason{Kind: ReasonAsked})
	}
}

// restartFor makes units run what changes of files require.
func (e *Engine) restartFor(units []*unit, hits []Hit) {
	reason := filesChanged(hits)
	reason.Kind, reason.Units = ReasonAskedFor, namesOf(units)
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Reason: reason})
	for _, u := range units {
		own := hitsOf(hits, u.spec.Name)
		if len(own) == 0 { // it follows a unit that has some
			e.force(u, r, Reason{Kind: ReasonAsked})
			continue
		}
		u.wanted, u.deaths = true, 0
		a := e.askFor(u, r, own)
		a.forced, a.cut = true, true
		e.wantNeeds(u, r, map[*unit]bool{})
	}
}

// askFor records that the unit should run what hits require, as part of ripple r.
func (e *Engine) askFor(u *unit, r *Ripple, hits []Hit) *act {
	what := pendingWork{}
	what.note(u.spec, hits)
	return e.ask(u, r, filesChanged(hits), what)
}

// force makes a unit act even if reactions are paused, and starts what it needs and is not running.
func (e *Engine) force(u *unit, r *Ripple, reason Reason) *act {
	u.wanted, u.deaths = true, 0
	a := e.intend(u, r, reason)
	a.forced, a.cut = true, true
	e.wantNeeds(u, r, map[*unit]bool{})
	return a
}

func (e *Engine) wantNeeds(u *unit, r *Ripple, seen map[*unit]bool) {
	for _, up := range u.needs {
		if seen[up] {
			continue
		}
		seen[up] = true
		if !up.wanted && !(up.satisfied() && up.upToDate) || len(up.gone) > 0 && up.pending == nil {
			up.wanted = true
			if a := e.intend(up, r, Reason{Kind: ReasonNeeded, Unit: u.spec.Name}); len(up.gone) > 0 {
				a.forced = true
			}
		}
		e.wantNeeds(up, r, seen)
	}
}

// startByRequest starts or reruns units that are not running, and those of their needs that are not running.
func (e *Engine) startByRequest(units []*unit) {
	running := func(u *unit) bool { return u.live() && u.state != Stopping }
	ripple := e.opening(Reason{Kind: ReasonAskedStart, Units: namesOf(units)})
	for _, u := range units {
		switch {
		case !running(u):
			e.force(u, ripple(), Reason{Kind: ReasonAsked})
		case e.needsStart(u, map[*unit]bool{}):
			e.wantNeeds(u, ripple(), map[*unit]bool{})
		}
	}
}

// opening returns a function that opens a ripple for a request when it is first called.
func (e *Engine) opening(reason Reason) func() *Ripple {
	var r *Ripple
	return func() *Ripple {
		if r == nil {
			r = e.ripples.open(e.now, Cause{Kind: CauseRequest, Reason: reason})
		}
		return r
	}
}

// only enables units and what they need or follow, and stops all others. Without units, it enables everything that is
// not started on request only. Enabled units are not touched.
func (e *Engine) only(units []*unit) {
	ripple := e.opening(Reason{Kind: ReasonAskedOnly, Units: namesOf(units)})
	specs := e.plan.Units
	if len(units) > 0 {
		specs, _ = e.plan.WithNeeds(namesOf(units))
	}
	keep := make(map[*unit]bool, len(specs))
	for _, spec := range specs {
		keep[e.byName[spec.Name]] = len(units) > 0 || !spec.Manual
	}
	if len(units) > 0 {
		e.disable(slices.DeleteFunc(slices.Clone(e.units), func(u *unit) bool {
			return keep[u] || !u.wanted && !u.live()
		}), ripple)
	}
	for _, spec := range specs {
		u := e.byName[spec.Name]
		named := len(units) == 0 || slices.Contains(units, u)
		switch {
		case !keep[u]:
		case !u.wanted && (named || !(u.satisfied() && u.upToDate)):
			e.force(u, ripple(), Reason{Kind: ReasonAsked})
		case named && e.needsStart(u, map[*unit]bool{}):
			e.wantNeeds(u, ripple(), map[*unit]bool{})
		}
	}
}

// needsStart reports whether wantNeeds has something to start.
func (e *Engine) needsStart(u *unit, seen map[*unit]bool) bool {
	for _, up := range u.needs {
		if seen[up] {
			continue
		}
		seen[up] = true
		if !up.wanted && !(up.satisfied() && up.upToDate) || len(up.gone) > 0 && up.pending == nil ||
			e.needsStart(up, seen) {
			return true
		}
	}
	return false
}

// stopByRequest stops units until a request starts them.
func (e *Engine) stopByRequest(units []*unit) {
	e.disable(units, e.opening(Reason{Kind: ReasonAskedStop, Units: namesOf(units)}))
}

// disable stops units as part of a ripple, which is opened if one of them is live.
func (e *Engine) disable(units []*unit, ripple func() *Ripple) {
	for _, u := range units {
		u.wanted, u.deaths, u.retryAt = false, 0, Moment{}
		u.dropPending()
		e.enqueue(u)
		if !u.live() {
			u.state = Stopped
			continue
		}
		r := ripple()
		r.take(u)
		u.run.ripples = append(u.run.ripples, r)
		e.stop(u, byRequest)
	}
}

// resume lets units act on what was held back while they were paused. Names are those in the request.
func (e *Engine) resume(units []*unit, names []string) {
	reason := Reason{Kind: ReasonResumed, Units: names}
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Reason: reason})
	for _, u := range units {
		e.enqueue(u)
		if u.pending != nil {
			e.intend(u, r, Reason{})
		}
	}
}
