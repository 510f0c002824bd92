package engine

import (
	"slices"
	"time"
)

// The writer of a file is not visible. The system only tells how much the processes of a run have written in total: a
// run that wrote nothing while a file was written has not written it. So whenever files are touched, the candidates
// are observed (Observe), and those that remain when that is answered (Observed) may be the writer.

// RunID identifies a run.
type RunID struct {
	Unit string
	Run  int
}

// Observation is what was seen of a run between a time before the files of a burst were noticed and a time after
// that.
type Observation struct {
	Unit  string
	Run   int
	Wrote Wrote
	Span  time.Duration // between these times
}

// Wrote is what is known of a run's writes.
type Wrote uint8

const (
	WroteUnknown   Wrote = iota // the system does not tell
	WroteNothing                // certain
	WroteSomething              // this file or another
	WroteAlways                 // it writes all the time, so this tells nothing
)

// writing is a burst of file events that affects a unit, and the candidates for all of it.
type writing struct {
	burst   int
	unit    *unit
	writers []writer
	asked   bool   // an observation is pending
	again   Moment // when more was noticed since it was requested; zero: nothing
	times   int    // the number of observations
}

// writer is a unit whose run may have written a burst.
type writer struct {
	unit    *unit
	run     *run
	after   time.Duration // the time after the start of its run or pass
	seen    bool          // it wrote something, but it is unknown what
	cleared bool          // it has not written all of it
}

// Counts that limit memory and work.
const (
	keptWritings    = 16 // writings that a unit remembers
	maxObservations = 5  // per burst and unit; a process that still writes after these is never cleared
)

// Durations that decide who may have written a file. Each errs on the side of a user's save: taking a save for a
// unit's own write would ignore it, while missing a loop costs one more round.
const (
	// startupWriting is how long after its start, or that of its newest pass, the writes of a service may be part of
	// it. It is a choice: tsc --watch ended its first pass after 3 s on an idle machine with two processors, and what
	// a service writes much later has other reasons.
	startupWriting = 30 * time.Second

	// lateNotice is how long after a run's end the engine may learn of its writes. Linux queued the event at most 4
	// ms after the writer had ended, next to sixteen busy loops on two processors; the rest is for the watcher, which
	// looks at the file before it reports it.
	lateNotice = 100 * time.Millisecond

	// fileTimeLag is how much earlier than the clock a file time may be. Linux uses the time of its last tick: up to
	// 4.2 ms were seen with 250 ticks a second, and systems with 100 have up to 10 ms.
	fileTimeLag = 20 * time.Millisecond

	// maxSuspectSpan is the longest span between two observations in which a service that wrote something counts as
	// the writer of a file. It is a choice: if a busy machine delays the observation for longer, a service has had
	// time to write other files.
	maxSuspectSpan = 4 * time.Second
)

// writingOf returns the unit's writing of a burst; nil: its Touched was lost.
func (u *unit) writingOf(burst int) *writing {
	for i := len(u.writings) - 1; i >= 0; i-- {
		if u.writings[i].burst == burst {
			return u.writings[i]
		}
	}
	return nil
}

// isWritten records who may be writing the files that affect these units. Written is the newest change time of the
// files; zero: unknown.
func (e *Engine) isWritten(burst int, units []*unit, written Moment) {
	e.setOff = slices.DeleteFunc(e.setOff, func(u *unit) bool { return !u.isYoung(e.now) })
	var all []*writing
	for _, u := range units {
		w := u.writingOf(burst)
		if w == nil {
			w = &writing{burst: burst, unit: u}
			if u.writings = append(u.writings, w); len(u.writings) > keptWritings {
				u.writings = slices.Delete(u.writings, 0, 1)
			}
		}
		for i := range w.writers {
			if by := w.writers[i].unit; !by.mayHaveWritten(e.now, written) {
				w.writers[i].cleared = true
			}
		}
		w.add(u, e.now, written)
		for _, by := range e.setOff {
			if by != u && by.mayHaveWritten(e.now, written) {
				w.add(by, e.now, written)
			}
		}
		all = append(all, w)
	}
	e.observe(burst, all, e.now)
}

// writer returns the index of a unit among the candidates for the writing, or -1.
func (w *writing) writer(u *unit) int {
	return slices.IndexFunc(w.writers, func(wr writer) bool { return wr.unit == u })
}

// add makes a unit a candidate for the writing, unless it cannot have written the first of it.
func (w *writing) add(u *unit, now, written Moment) {
	switch i := w.writer(u); {
	case i >= 0 && w.writers[i].run == u.run:
	case i >= 0:
		w.writers[i].run, w.writers[i].after = u.run, u.atItFor(now)
	case u.mayHaveWritten(now, written):
		w.writers = append(w.writers, writer{unit: u, run: u.run, after: u.atItFor(now)})
	default:
		w.writers = append(w.writers, writer{unit: u, run: u.run, cleared: true})
	}
}

// observe requests what the candidates for the writings of a burst have written by the time when that was noticed.
func (e *Engine) observe(burst int, all []*writing, noticed Moment) {
	o := Observe{Burst: burst, Noticed: noticed}
	has := map[RunID]bool{}
	for _, w := range all {
		if w.asked {
			w.again = noticed
			continue
		}
		w.again = Moment{}
		runs := w.open()
		if len(runs) == 0 || w.times >= maxObservations {
			continue
		}
		w.asked = true
		w.times++
		o.Units = append(o.Units, w.unit.spec.Name)
		for _, id := range runs {
			if !has[id] {
				has[id] = true
				o.Runs = append(o.Runs, id)
			}
		}
	}
	if len(o.Runs) > 0 {
		e.emit(o)
	}
}

// open returns the runs that are candidates for the writing.
func (w *writing) open() []RunID {
	var runs []RunID
	for _, wr := range w.writers {
		if !wr.cleared {
			runs = append(runs, RunID{wr.unit.spec.Name, wr.run.Number})
		}
	}
	return runs
}

// observed removes the candidates that have not written a burst, with the consequences of having suspected them.
func (e *Engine) observed(ev Observed) {
	var again []*writing
	for _, name := range ev.Units {
		u := e.byName[name]
		if u == nil {
			continue
		}
		w := u.writingOf(ev.Burst)
		if w == nil || !w.asked {
			continue
		}
		w.asked = false
		if e.hear(w, ev.Runs) {
			e.reconsider(w)
		}
		if !w.again.IsZero() {
			again = append(again, w)
		}
	}
	if r := e.ripples.latestOfBurst(
		ev.Burst,
	); r != nil && !r.saved && !r.made &&
		slices.ContainsFunc(r.Concerned, e.isSave(ev.Burst)) {
		e.save(r)
	}
	if len(again) > 0 {
		e.observe(ev.Burst, again, again[0].again)
	}
	held := e.held
	e.held = nil
	for _, c := range held {
		if c.Burst == ev.Burst {
			e.change(c) // and perhaps hold it again
		} else {
			e.held = append(e.held, c)
		}
	}
}

// hear adds an observation of a candidate, and reports whether that clears one.
func (e *Engine) hear(w *writing, runs []Observation) (cleared bool) {
	for _, o := range runs {
		i := w.writer(e.byName[o.Unit])
		if i < 0 || w.writers[i].run == nil || w.writers[i].run.Number != o.Run {
			continue
		}
		wr := &w.writers[i]
		wr.seen = wr.seen || o.Wrote == WroteSomething
		if !wr.cleared && !wr.mayHaveDone(o) {
			wr.cleared, cleared = true, true
		}
	}
	return cleared
}

// isSave returns a function that reports whether a writer other than a unit's own runs has written what affects it,
// as far as is known now.
func (e *Engine) isSave(burst int) func(Concern) bool {
	return func(c Concern) bool {
		u := e.byName[c.Unit]
		if u == nil {
			return false
		}
		var goesOn chain
		if u.run != nil && u.run.chain.burst() == burst {
			goesOn = u.run.chain
		}
		return u.isSavedFor(burst, goesOn)
	}
}

// isSavedFor reports whether a burst that affects the unit, and continues a chain, counts as a user's save. A tool
// that picks up changes writes its results at any time, and rarely where it watches.
func (u *unit) isSavedFor(burst int, c chain) bool {
	return (u.spec.Pass != nil || !u.writingOf(burst).mayBeBy(u)) && c.rounds(u) < lookoutRounds
}

// maxSetOff limits the units that are remembered as recently set off. Those of a loop are among the newest, from its
// second round on.
const maxSetOff = 16

// noteSetOff records a unit whose newest run, or pass, was set off by a change.
func (e *Engine) noteSetOff(u *unit) {
	if !slices.ContainsFunc(u.run.ripples, func(r *Ripple) bool { return r.Cause.Kind == CauseChange }) {
		return
	}
	e.setOff = append(slices.DeleteFunc(e.setOff, func(old *unit) bool { return old == u }), u)
	if n := len(e.setOff); n > maxSetOff {
		e.setOff = slices.Delete(e.setOff, 0, n-maxSetOff)
	}
}

// mayHaveDone decides about an observation of a writing. Services are trusted if nothing can be observed: it is
// better to miss a loop than to ignore what a user saves.
func (wr *writer) mayHaveDone(o Observation) bool {
	service := !wr.unit.ends()
	switch o.Wrote {
	case WroteNothing:
		return false
	case WroteSomething:
		return !service || o.Span <= maxSuspectSpan
	}
	return !service
}

// mayBeBy reports whether a unit's run may have done the writing.
func (w *writing) mayBeBy(u *unit) bool {
	if w == nil {
		return false
	}
	i := w.writer(u)
	return i >= 0 && !w.writers[i].cleared
}

// mayHaveWritten reports whether the unit's newest run may have written what is noticed now, and was written at a
// time, if that is known.
func (u *unit) mayHaveWritten(now, written Moment) bool {
	switch {
	case u.run == nil || !u.run.spawned:
		return false
	case !u.live() && (now.Sub(u.run.EndedAt) >= lateNotice || u.run.EndedAt.Before(written)):
		return false
	}
	return written.IsZero() || !u.run.OrderedAt.After(written.Add(fileTimeLag))
}

// isYoung reports whether the writes of the unit's newest run may still be part of its start, or of its newest pass.
func (u *unit) isYoung(now Moment) bool {
	switch {
	case u.run == nil || !u.live() && now.Sub(u.run.EndedAt) >= lateNotice:
		return false
	case u.ends() || !u.run.spawned:
		return true
	}
	return u.atItFor(now) < startupWriting
}

// atItFor is how long the unit's run, or its newest pass, has been running.
func (u *unit) atItFor(now Moment) time.Duration {
	began := u.run.spawnedAt
	if p := u.passes.open; p != nil {
		began = p.BeganAt
	} else if p := u.passes.last; p != nil {
		began = p.BeganAt
	}
	return now.Sub(began)
}
