package engine

import (
	"slices"
	"time"
)

// A service that picks up changes by itself, such as a compiler in its own watch mode, is not restarted by a change.
// It is current when a pass that began after the change has ended well. The time when a pass began and the time when
// a file was written are both known only within bounds; if these overlap, it is uncertain whether the pass has read
// the file, and waiting decides: a tool that has not read it begins another pass within the time that its settings
// give it.
//
// Of a tool that reports only ends, a pass began at an unknown time, and there is nothing to wait for in one case: if
// no file was written for so long that no other pass could follow, and then files were, all at one moment, a pass that
// ends later was begun by that write and has read it.

// Pass is one round of work of a service that picks up changes by itself. Missing times are zero.
type Pass struct {
	Number  int // within its run, from 1
	BeganAt Moment
	EndedAt Moment
	Good    bool
	Saw     string // of a bad pass: its first message
}

// pass is a Pass with what only the engine knows.
type pass struct {
	Pass
	after, by Moment // the bounds of its beginning
	guessed   bool   // no output reported its beginning
	ended     Moment // it ended later than this; zero: unknown
}

// took returns the duration of the pass; 0: only its end was reported. The first pass begins with the process.
func (p *pass) took() time.Duration {
	if p.guessed && p.Number > 1 {
		return 0
	}
	return p.EndedAt.Sub(p.BeganAt)
}

// write is a burst of writes that affects a unit and that none of its passes has certainly read.
type write struct {
	burst    int
	rev      revision
	first    Moment   // the earliest time of the first write
	noticed  Moment   // when the last write was noticed
	earliest Moment   // the earliest time of the last write
	undone   bool     // everything was as before in the end, so perhaps no pass follows
	sole     bool     // no pass was in progress or to follow, and all writes of the burst were at one moment
	files    []string // known when they have settled
}

// noticeTime is the time within which a write of unknown time is noticed.
const noticeTime = time.Second

// passes is what is known of the passes of a unit's live run.
type passes struct {
	count  int
	says   bool  // the tool reports the beginnings of passes
	open   *pass // the current one
	last   *pass // the last one that has ended
	unread []write
	chain  chain  // that set off the newest one
	counts bool   // files that are not ignored were written since the last good pass was passed on
	due    Moment // when the next pass should have begun
	wrote  Moment // when a write was last noticed
	armed  bool   // a timer is set
	missed bool   // that time has passed without a pass
}

// reading is whether a pass has read a write.
type reading uint8

const (
	hasRead reading = iota
	mayHaveRead
	hasNotRead
)

func (p *pass) read(w write) reading {
	switch {
	case p.after.After(w.noticed), w.sole && p.ended.After(w.noticed):
		return hasRead
	case p.by.Before(w.earliest) && !w.undone:
		return hasNotRead
	}
	return mayHaveRead
}

// of returns the index of a burst in the unread writes, or -1.
func (p *passes) of(burst int) int {
	return slices.IndexFunc(p.unread, func(w write) bool { return w.burst == burst })
}

// takesUp reports whether the unit's live run picks up changes by itself.
func (u *unit) takesUp() bool {
	return u.spec.Pass != nil && u.live() && u.state != Stopping
}

// awaitsPass reports whether the unit is at rest apart from files that it has not picked up.
func (u *unit) awaitsPass() bool {
	return u.takesUp() && len(u.passes.unread) > 0 && !u.passes.missed
}

// wrote records a burst of writes that the unit should pick up; see touch.
func (e *Engine) wrote(u *unit, burst int, at Moment, unsure bool) {
	if !u.takesUp() {
		return
	}
	known := false
	switch {
	case unsure, at.After(e.now):
		at = e.now // only a later pass has certainly read it
	case at.IsZero():
		at = e.now.Add(-noticeTime)
	default:
		known = true
	}
	p := &u.passes
	w := write{burst: burst, rev: e.rev, first: at, noticed: e.now, earliest: at}
	w.sole = known && len(p.unread) == 0 && p.open == nil && p.wrote.Add(u.spec.Pass.Within).Before(at)
	if i := p.of(burst); i >= 0 { // a part of it: its last write counts, after those of other bursts
		w.first, w.sole = p.unread[i].first, p.unread[i].sole && known && at.Sub(p.unread[i].first) == 0
		p.unread = slices.Delete(p.unread, i, i+1)
	}
	p.unread, p.wrote = append(p.unread, w), e.now
	p.missed = false
	e.awaitPass(u)
}

// takenUp reports whether a unit picks up all of the hits by itself.
func takenUp(hits []Hit) bool {
	return !slices.ContainsFunc(hits, func(h Hit) bool { return !h.TakenUp })
}

// wroteNothing records that files have the same contents as before. Most tools begin a pass anyway, which is awaited,
// but a missing pass does not make the unit stale. If the settings exclude such saves, they are taken back, unless a
// pass may have read in between.
func (e *Engine) wroteNothing(u *unit, t touch) {
	p := &u.passes
	i := p.of(t.burst)
	if i >= 0 && u.spec.SkipUnchanged && p.says && p.open == nil && u.lastRead() < t.first &&
		(p.last == nil || p.last.EndedAt.Before(p.unread[i].first)) {
		u.untouch(t.burst)
		return
	}
	if p.counts = true; i < 0 { // a pass has read it
		u.untouch(t.burst)
		return
	}
	u.settled = max(u.settled, t.last)
	p.unread[i].undone = true
	e.awaitPass(u)
}

// hasNews reports whether there is a good pass that followers wait for.
func (u *unit) hasNews() bool {
	return u.live() && u.state == Ready && u.news && !u.passes.missed
}

// awaitPass gives the unit's next pass time to begin, from now on.
func (e *Engine) awaitPass(u *unit) {
	p := &u.passes
	p.due = e.now.Add(u.spec.Pass.Within)
	if !p.armed {
		p.armed = true
		e.setTimer(u, passIsDue, u.spec.Pass.Within)
	}
}

// passDue decides about writes that no pass has certainly read, after there was time for another pass.
func (e *Engine) passDue(u *unit) {
	p := &u.passes
	p.armed = false
	if !u.takesUp() || p.open != nil || len(p.unread) == 0 {
		return // the end of the current pass sets another time
	}
	if left := p.due.Sub(e.now); left > 0 {
		p.armed = true
		e.setTimer(u, passIsDue, left)
		return
	}
	e.takeUp(u, mayHaveRead)
	if e.ignoreResults(u); len(p.unread) > 0 && !p.missed {
		p.missed = true
		if u.state == Ready {
			e.tellRun(u, Fact{Kind: FactPassMissed, Since: u.staleSince.Wall})
		}
	}
	e.enqueue(u)
}

// holds records which files a burst of writes has changed.
func (p *passes) holds(burst int, hits []Hit) {
	if i := p.of(burst); i >= 0 {
		p.unread[i].files = pathsOf(hits)
	}
}

// ignoreResults ignores files that the unit's own passes have written, as far as known, and that it has not picked up
// for the third time: they are its results.
func (e *Engine) ignoreResults(u *unit) {
	var files []string
	for _, r := range u.passes.unread {
		w := u.writingOf(r.burst)
		if w == nil || len(r.files) == 0 ||
			!slices.ContainsFunc(w.writers, func(wr writer) bool { return wr.unit == u && wr.seen && !wr.cleared }) {
			u.results, u.missedResults = nil, 0
			return
		}
		files = append(files, r.files...)
	}
	if len(files) == 0 {
		return
	}
	if !shareFile(u.results, files) {
		u.missedResults = 0
	}
	u.results = files
	if u.missedResults++; u.missedResults >= loopRounds {
		e.ignore(u, files, chain{{unit: u, by: []source{{unit: u}}, files: files}})
		e.takeUp(u, hasNotRead)
	}
}

// missedPass reports whether the unit should have picked up a change and has not.
func (u *unit) missedPass() bool {
	return u.takesUp() && u.passes.missed && u.touched > u.goodRead
}

func (e *Engine) passBegan(ev PassBegan) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil || !u.run.spawned || u.spec.Pass == nil || u.state == Stopping {
		return
	}
	p := &u.passes
	switch {
	case p.open == nil:
		p.count++
	case !p.open.guessed:
		// The tool reports that it is still working, or that it has started again: it is unknown which.
		p.open.by = later(p.open.by, ev.By)
		return
	}
	p.says = p.says || !ev.Guessed
	p.open = &pass{Pass: Pass{Number: p.count, BeganAt: e.now}, after: ev.After, by: ev.By, guessed: ev.Guessed}
	if u.state == Ready || u.state == Failed {
		u.state = Running
	}
	if p.last != nil && !ev.Guessed { // otherwise its end follows at once
		e.tellRun(u, Fact{Kind: FactPassStarted, Pass: p.count})
	}
	e.enqueue(u)
}

func (e *Engine) passEnded(ev PassEnded) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil || u.passes.open == nil || u.state == Stopping {
		return
	}
	p := &u.passes
	if ev.Good && p.partOfFailed(e.now) {
		p.open = nil
		u.state = Failed
		e.enqueue(u)
		return
	}
	p.last, p.open = p.open, nil
	p.last.EndedAt, p.last.Good, p.last.Saw, p.last.ended = e.now, ev.Good, ev.Saw, ev.After
	if ev.Good {
		e.tellRun(u, Fact{Kind: FactPassEnded, Pass: p.last.Number, Took: p.last.took(), State: Ready})
		e.passedWell(u)
	} else {
		u.run.Problem = told(ev.Saw)
		u.run.endSpan(e.now)
		u.state = Failed
		e.tellRun(
			u,
			Fact{Kind: FactPassEnded, Pass: p.last.Number, Took: p.last.took(), State: Failed, Problem: told(ev.Saw)},
		)
	}
	e.takeUp(u, hasRead)
	if p.missed = false; len(p.unread) > 0 {
		e.awaitPass(u)
	}
	for _, r := range u.run.ripples {
		r.credit(u, p.last)
	}
	e.enqueue(u)
}

// partOfFailed reports whether a pass of which only the end was reported is part of the failed pass before it: a tool
// with several results reports each.
func (p *passes) partOfFailed(now Moment) bool {
	const together = 300 * time.Millisecond
	if p.last == nil || p.last.Good || !p.open.guessed || now.Sub(p.last.EndedAt) >= together {
		return false
	}
	return !slices.ContainsFunc(p.unread, func(w write) bool { return w.noticed.After(p.last.EndedAt) })
}

// passedWell makes a unit ready after a good pass, when its readiness check has succeeded, too.
func (e *Engine) passedWell(u *unit) {
	u.run.Problem, u.news = Problem{}, true
	switch {
	case u.run.ReadyAt.IsZero() && u.spec.Ready.Probed() && !u.run.answered:
		if u.state != Starting {
			u.state = Starting
			e.setTimer(u, notReadyInTime, u.spec.Ready.Within)
		}
	case u.run.ReadyAt.IsZero():
		e.nowReady(u)
	default:
		u.state = Ready
	}
}

// takeUp records what the unit's newest pass has read, or may have read.
func (e *Engine) takeUp(u *unit, atMost reading) {
	p := &u.passes
	if p.last == nil {
		return
	}
	n := 0
	for n < len(p.unread) && p.last.read(p.unread[n]) <= atMost {
		u.run.read = max(u.run.read, p.unread[n].rev)
		n++
	}
	p.unread = slices.Delete(p.unread, 0, n)
	if p.last.Good && u.pending == nil { // otherwise there is something that only a new run reads
		u.goodRead, u.goodBuiltOn = u.run.read, u.run.builtOn
	}
}

// handOn lets followers act on a good pass, when the unit is at rest.
func (e *Engine) handOn(u *unit) {
	p := &u.passes
	if !u.hasNews() || u.awaitsPass() || u.stirring() {
		return
	}
	counts := p.counts || u.loop == nil || u.generation == 0
	u.news, p.counts = false, false
	u.run.ripples = slices.DeleteFunc(u.run.ripples, (*Ripple).Resting)
	if len(u.run.ripples) == 0 && !counts {
		return // it has picked up ignored files, so its result is ignored, too
	}
	if len(u.run.ripples) == 0 && (len(u.downstream) > 0 || !u.owed.empty()) {
		r := e.ripples.open(
			e.now,
			Cause{Kind: CausePass, Unit: u.spec.Name, Reason: Reason{Kind: ReasonTookUp, Unit: u.spec.Name}},
		)
		r.take(u)
		r.credit(u, p.last)
		u.run.ripples = append(u.run.ripples, r)
	}
	e.finishedAgain(u)
}

// readByPass makes a unit that picks up changes by itself part of a ripple.
func (e *Engine) readByPass(u *unit, r *Ripple) {
	u.passes.counts = true
	if u.run.ripples = slices.DeleteFunc(u.run.ripples, (*Ripple).Resting); !slices.Contains(u.run.ripples, r) {
		u.run.ripples = append(u.run.ripples, r)
	}
	if p := u.passes.last; p != nil && !p.EndedAt.Before(r.Since) {
		r.credit(u, p)
	}
	e.noteSetOff(u)
	e.enqueue(u)
}
