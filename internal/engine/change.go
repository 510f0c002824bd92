package engine

import (
	"slices"
)

// What happens with a burst of file events: the units that it affects are stale from the first event on (touch). When
// it has settled, they act on it (change), or it is taken back (unchanged).

// touched makes units stale when files start being written.
func (e *Engine) touched(ev Touched) {
	e.rev++
	var units []*unit
	var newest Moment
	for i, name := range ev.Units {
		if u := e.byName[name]; u != nil && u.spec.Relay == nil {
			var written Moment
			unsure := false
			if i < len(ev.Written) {
				written = e.written(ev.Written[i])
				unsure = written.IsZero() && !ev.Written[i].IsZero()
			}
			e.touch(u, ev.Burst, written, unsure)
			units, newest = append(units, u), later(newest, written)
		}
	}
	e.isWritten(ev.Burst, units, newest)
}

// touch makes a unit stale. Unsure: the file times mean nothing any more.
func (e *Engine) touch(u *unit, burst int, written Moment, unsure bool) {
	e.outdate(u)
	e.wrote(u, burst, written, unsure)
	if u.hasRested(burst) { // a repeated report
		u.settled = e.rev
		e.enqueue(u)
		return
	}
	t := u.stir(burst)
	if t.latest.IsZero() {
		t.latest, t.since = e.latest, e.now.Wall.Add(-noticeTime)
	}
	made := u.madeAt
	if !written.IsZero() && written.Before(u.madeFrom) {
		made = u.madeBefore // that run has read them, unless they are older than its outputs
	}
	if made.After(t.made) {
		t.made = made
	}
	if t.first == 0 {
		t.first = e.rev
	}
	if t.last = e.rev; u.spec.ComparesTimes && u.live() && u.run.spawned {
		if written.IsZero() || !written.Before(u.run.spawnedAt) {
			t.during = u.run
		}
		e.abandonAtOnce(u)
	}
	since := written
	if since.IsZero() {
		since = e.now.Add(-noticeTime)
	}
	t.calm = t.calm && u.pending == nil && !u.movedSince(since)
	if a := u.pending; a != nil && len(a.chain) > 0 &&
		!slices.ContainsFunc(
			a.chain[len(a.chain)-1].by,
			func(s source) bool { return s.unit.mayHaveWritten(e.now, written) },
		) {
		e.lookoutEnds(u)
	}
	e.enqueue(u)
}

// touchLate makes a unit stale whose Touched was lost.
func (e *Engine) touchLate(u *unit, ev Change) {
	if !u.isTouched(ev.Burst) && !u.hasRested(ev.Burst) {
		e.rev++
		e.touch(u, ev.Burst, ev.Since, false)
	}
}

// outdate records that something that affects the unit is newer than anything it has read.
func (e *Engine) outdate(u *unit) {
	if u.touched <= u.goodRead {
		u.staleSince = e.now
	}
	u.touched = e.rev
}

// unchanged takes back that files were touched. A unit that may have read them in between runs again nevertheless.
func (e *Engine) unchanged(ev Unchanged) {
	for _, name := range ev.Units {
		u := e.byName[name]
		if u == nil || u.spec.Relay != nil {
			continue
		}
		hits := hitsOf(ev.Hits, name)
		if len(hits) > 0 && len(u.notIgnored(hits)) == 0 {
			e.untouchBy(u, ev.Burst)
			continue
		}
		if len(hits) == 0 {
			hits = []Hit{{Unit: name}}
		}
		t, ok := u.rest(ev.Burst)
		if e.doubtTimes(u, t, hits) {
			t.calm = false // what a make did not notice, it makes now
		}
		if ok && u.takesUp() && u.pending == nil {
			e.wroteNothing(u, t)
		} else if ok && !e.takeBack(u, t) && u.wanted && !u.onlyWhenAsked() && !e.quitting {
			reason := Reason{Kind: ReasonChangedBack}
			e.intend(u, e.ripples.open(e.now, Cause{Kind: CauseRelease, Unit: name, Reason: reason}), reason)
		}
		e.enqueue(u)
	}
}

// takeBack treats a write as one that never happened, unless a run may have read the intermediate contents.
func (e *Engine) takeBack(u *unit, t touch) bool {
	if u.lastRead() >= t.last {
		return true // it has read the current contents
	}
	if !t.calm || u.lastRead() >= t.first {
		u.settled = max(u.settled, t.last)
		return false
	}
	u.untouch(t.burst)
	return true
}

// change lets units act on settled files. All units of one burst share a ripple.
func (e *Engine) change(ev Change) {
	groups := byUnit(ev.Hits)
	if e.quitting {
		for _, hits := range groups {
			if u := e.byName[hits[0].Unit]; u != nil && len(u.notIgnored(u.notForPages(hits))) > 0 {
				e.touchLate(u, ev)
			}
		}
		return
	}
	if slices.ContainsFunc(groups, func(hits []Hit) bool { return e.mayBeLoop(ev.Burst, hits) }) {
		e.held = append(e.held, ev)
		return
	}
	var all []concerned
	for _, hits := range groups {
		if c, acts := e.concernedBy(ev, hits); acts && !e.isLoop(&c, ev.Burst) {
			all = append(all, c)
		}
	}
	if len(all) == 0 {
		return
	}
	r := e.ripples.ofBurst(ev.Burst)
	if r == nil {
		r = e.ripples.open(e.now, Cause{Kind: CauseChange})
		r.burst, r.Since = ev.Burst, ev.Since
	}
	r.made = r.made || ev.Made
	if !r.made && !r.saved && slices.ContainsFunc(all, func(c concerned) bool {
		return c.unit.isSavedFor(ev.Burst, c.chain)
	}) {
		e.save(r)
	}
	e.rev++
	for _, c := range all {
		r.addPaths(c.hits, ev.Files)
		e.actOn(c, r, ev)
	}
}

// concerned is a unit with the hits of a change that it should act on, and the chain that this would continue.
type concerned struct {
	unit  *unit
	hits  []Hit
	chain chain
}

// concernedBy returns what a change requires of a unit. It returns false if that is nothing.
func (e *Engine) concernedBy(ev Change, hits []Hit) (concerned, bool) {
	u := e.byName[hits[0].Unit]
	if u == nil || u.spec.Relay != nil {
		return concerned{}, false
	}
	hits = u.notIgnored(e.withoutMissing(u, u.notForPages(u.byRulesInUse(hits))))
	if len(hits) == 0 {
		e.untouchBy(u, ev.Burst)
		return concerned{}, false
	}
	c := concerned{unit: u, hits: hits}
	if w := u.writingOf(ev.Burst); w != nil && w.mayLink() && u.isTouched(ev.Burst) {
		c.chain = w.chainTo(pathsOf(hits))
	}
	return c, true
}

// mayBeLoop reports whether the unit's reaction depends on who wrote the files, which will be known soon.
func (e *Engine) mayBeLoop(burst int, hits []Hit) bool {
	u := e.byName[hits[0].Unit]
	if u == nil || u.spec.Relay != nil {
		return false
	}
	w := u.writingOf(burst)
	return w != nil && w.asked && w.chainTo(pathsOf(hits)).rounds(u) >= lookoutRounds
}

// isLoop stops a loop that has come to a unit for the third time. It reports whether the unit has nothing else to act
// on.
func (e *Engine) isLoop(c *concerned, burst int) bool {
	if c.chain.rounds(c.unit) < loopRounds {
		return false
	}
	c.hits = e.stopLoop(c.unit, c.chain, c.hits)
	c.chain = nil
	if len(c.hits) == 0 {
		e.untouchBy(c.unit, burst)
	}
	return len(c.hits) == 0
}

// actOn lets a unit act on its part of a change.
func (e *Engine) actOn(c concerned, r *Ripple, ev Change) {
	u := c.unit
	e.touchLate(u, ev)
	t, news := u.rest(ev.Burst)
	u.settled = max(u.settled, t.last)
	u.suspect(c.hits)
	e.doubtTimes(u, t, c.hits)
	u.deaths = 0
	e.enqueue(u)
	r.concern(u.spec.Name, c.hits[0].Rule)
	r.take(u)
	if u.takesUp() && takenUp(c.hits) {
		u.passes.chain = c.chain
		u.passes.holds(ev.Burst, c.hits)
		if u.pending == nil { // otherwise that waits for something, and its passes continue
			e.readByPass(u, r)
			return
		}
	}
	if a := u.pending; a != nil && len(a.reasons) > 0 {
		switch {
		case !news: // a repeated report
			c.chain = a.chain
		case len(a.chain) == 0 || len(c.chain) == 0: // there is another reason
			c.chain = nil
		case a.chain.rounds(u) > c.chain.rounds(u):
			c.chain = a.chain
		}
	}
	e.react(u, r, c.hits, ev)
	e.carry(u, c.chain)
}

// save counts a ripple as caused by a user's save.
func (e *Engine) save(r *Ripple) {
	if r.saved, r.shown = true, nil; e.newest == nil || r.ID > e.newest.ID {
		e.newest = r
	}
	e.saves = append(e.saves, Save{At: r.Since, Ripple: r.ID})
	if len(e.saves) > 2*keptMarks {
		e.saves = append([]Save(nil), e.saves[keptMarks:]...)
	}
}

// byRulesInUse returns the unit's hits; those of reactions that an edit of the settings has changed since become hits
// of the whole unit.
func (u *unit) byRulesInUse(hits []Hit) []Hit {
	for i, h := range hits {
		if h.Reaction == 0 {
			continue
		}
		if h.Reaction > len(u.spec.Reactions) || u.spec.Reactions[h.Reaction-1].When.Text != h.Rule {
			hits = slices.Clone(hits)
			hits[i].Reaction, hits[i].Captures, hits[i].Missing = 0, nil, ""
		}
	}
	return hits
}

// withoutMissing returns the unit's hits without those whose reaction would run a command on something that does not
// exist, and reports these.
func (e *Engine) withoutMissing(u *unit, hits []Hit) []Hit {
	i := slices.IndexFunc(hits, func(h Hit) bool { return h.Missing != "" })
	if i < 0 {
		return hits
	}
	e.tell(Fact{Kind: FactTargetMissing, Unit: u.spec.Name, Files: []string{hits[i].Path},
		Problem: told(hits[i].Missing)})
	return slices.DeleteFunc(slices.Clone(hits), func(h Hit) bool { return h.Missing != "" })
}

// react lets a unit act on settled files, by its rules.
func (e *Engine) react(u *unit, r *Ripple, hits []Hit, ev Change) {
	if u.touched <= u.readAtStart() && u.run.does(u.spec, hits) {
		// Its run started after the files were written. If it fails, what they require is still owed.
		switch {
		case u.run.good:
		case u.live():
			u.run.pays.note(u.spec, hits)
		default:
			u.owed.note(u.spec, hits)
		}
		return
	}
	if name, ok := u.signalFor(hits); ok && u.state == Ready && u.pending == nil && !e.paused && !u.paused {
		e.sendSignal(u, r, name, hits)
		if u.takesUp() { // in its next pass
			e.readByPass(u, r)
			return
		}
		read := e.rev
		if u.stirring() { // newer writes have not settled, which it may read or not
			read = u.settled
			for i := range u.touches {
				u.touches[i].calm = false
			}
		}
		u.run.read, u.goodRead = max(u.run.read, read), max(u.goodRead, read)
		return
	}
	asks := pendingWork{}
	asks.note(u.spec, hits)
	if !u.wanted || u.onlyWhenAsked() {
		u.owed.add(asks)
		return
	}
	e.ask(u, r, filesChanged(hits), asks).span(e.now, Span{Phase: PhaseDebounce, From: ev.Since})
}

// byUnit groups hits by unit, in the order of first mention.
func byUnit(hits []Hit) [][]Hit {
	var groups [][]Hit
	at := map[string]int{}
	for _, h := range hits {
		i, ok := at[h.Unit]
		if !ok {
			i, at[h.Unit] = len(groups), len(groups)
			groups = append(groups, nil)
		}
		groups[i] = append(groups[i], h)
	}
	return groups
}
