package engine

import (
	"slices"
	"time"
)

// Who writes a file cannot be seen. What the system tells is how much a run's processes
// have written in all: of whom nothing was written while a file was, has not written it.
// So all who come into question are asked for whenever files are touched (Observe), and
// who is left when that is answered (Observed) may have done it.

// RunID names a run.
type RunID struct {
	Unit string
	Run  int
}

// Observation is what was seen of a run between a moment before the files of a burst were
// noticed and a moment after that.
type Observation struct {
	Unit  string
	Run   int
	Wrote Wrote
	Span  time.Duration // from the one moment to the other
}

// Wrote is what is known of a run's writing.
type Wrote uint8

const (
	WroteUnknown   Wrote = iota // the system does not tell
	WroteNothing                // for sure
	WroteSomething              // this file or another
	WroteAlways                 // it writes all the time, so that this tells nothing
)

// writing is a burst of file events that concern a unit, and who may have caused all of it.
type writing struct {
	burst   int
	unit    *unit
	writers []writer
	asked   bool   // an observation is on its way
	again   Moment // when more was noticed since it was asked for; zero for nothing
	times   int    // how often it was
}

// writer is a unit whose run may have done a writing.
type writer struct {
	unit    *unit
	run     *run
	after   time.Duration // how long after its run or pass began it did
	seen    bool          // that it wrote something, if not what
	cleared bool          // it has not done all of it
}

// Counts that bound memory and work.
const (
	keptWritings    = 16 // writings that a unit remembers
	maxObservations = 5  // per burst and unit; a process that still writes after these is never cleared
)

// Durations that decide who may have written a file. Each errs on the side of a user's save: taking a save for a unit's
// own writing would ignore it, while missing a loop costs one more round.
const (
	// startupWriting is how long after its start, or that of its newest pass, a service's writings may still be what
	// that was for. It is a choice: tsc --watch ended its first pass after 3 s on an idle machine with two
	// processors, and what a service writes much later has other reasons.
	startupWriting = 30 * time.Second

	// lateNotice is how long after a run's end the engine may hear of what it wrote. Linux queued the event at most
	// 4 ms after the writer had ended, next to sixteen busy loops on two processors; the rest is for the watcher, which
	// looks at the file before it reports it.
	lateNotice = 100 * time.Millisecond

	// fileTimeLag is how much earlier than the clock a file's time may be. Linux stamps files with the time of its last
	// tick: up to 4.2 ms were seen with 250 ticks a second, and systems with 100 have up to 10 ms.
	fileTimeLag = 20 * time.Millisecond

	// maxSuspectSpan is the longest span between two observations in which a service that wrote something counts as
	// the writer of a file. It is a choice: where a busy machine keeps the session from looking for longer, a service
	// has had time to write other files.
	maxSuspectSpan = 4 * time.Second
)

// writingOf returns the unit's writing of a burst, nil where its Touched was lost.
func (u *unit) writingOf(burst int) *writing {
	for i := len(u.writings) - 1; i >= 0; i-- {
		if u.writings[i].burst == burst {
			return u.writings[i]
		}
	}
	return nil
}

// isWritten notes who may be writing what concerns these units. Written is the time that the
// newest of the files tells for its change, zero where that is not known.
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

// writer returns where a unit stands among those who may have done the writing, -1 if it is
// none of them.
func (w *writing) writer(u *unit) int {
	return slices.IndexFunc(w.writers, func(wr writer) bool { return wr.unit == u })
}

// add makes a unit one that may have done the writing, unless it cannot have done the first
// of it.
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

// observe asks what those who may have done the writings of a burst have written by when
// that was noticed.
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

// open returns the runs that may have done the writing.
func (w *writing) open() []RunID {
	var runs []RunID
	for _, wr := range w.writers {
		if !wr.cleared {
			runs = append(runs, RunID{wr.unit.spec.Name, wr.run.Number})
		}
	}
	return runs
}

// observed takes off those who have not done the writings of a burst, with what followed from
// that.
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
			e.change(c) // and maybe hold it again
		} else {
			e.held = append(e.held, c)
		}
	}
}

// hear enters what was seen of those who may have done the writing, and reports whether that
// clears one of them.
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

// isSave returns a function that reports whether another writer than a unit's own runs has
// written what concerns it, for all that is known by now.
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

// isSavedFor reports whether a burst that concerns the unit, and continues that chain, counts as
// a save by a user. A tool that picks up changes writes its results at all times, and seldom
// where it watches.
func (u *unit) isSavedFor(burst int, c chain) bool {
	return (u.spec.Pass != nil || !u.writingOf(burst).mayBeBy(u)) && c.rounds(u) < lookoutRounds
}

// maxSetOff is how many units are remembered as set off recently. Those of a loop are among the
// newest, from its second round on.
const maxSetOff = 16

// noteSetOff remembers a unit whose newest run, or pass, a change has set off.
func (e *Engine) noteSetOff(u *unit) {
	if !slices.ContainsFunc(u.run.ripples, func(r *Ripple) bool { return r.Cause.Kind == CauseChange }) {
		return
	}
	e.setOff = append(slices.DeleteFunc(e.setOff, func(old *unit) bool { return old == u }), u)
	if n := len(e.setOff); n > maxSetOff {
		e.setOff = slices.Delete(e.setOff, 0, n-maxSetOff)
	}
}

// mayHaveDone decides on what was seen of a writer. Services are believed where nothing can
// be reported: it is better to miss a loop than to ignore what a user saves.
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

// mayHaveWritten reports whether the unit's newest run may have written what is heard of now,
// and was written then, if that is known.
func (u *unit) mayHaveWritten(now, written Moment) bool {
	switch {
	case u.run == nil || !u.run.spawned:
		return false
	case !u.live() && (now.Sub(u.run.EndedAt) >= lateNotice || u.run.EndedAt.Before(written)):
		return false
	}
	return written.IsZero() || !u.run.OrderedAt.After(written.Add(fileTimeLag))
}

// isYoung reports whether what the unit's newest run writes may still be what its start was
// for, or that of its newest pass.
func (u *unit) isYoung(now Moment) bool {
	switch {
	case u.run == nil || !u.live() && now.Sub(u.run.EndedAt) >= lateNotice:
		return false
	case u.ends() || !u.run.spawned:
		return true
	}
	return u.atItFor(now) < startupWriting
}

// atItFor is how long the unit's run, or its newest pass, has been at it.
func (u *unit) atItFor(now Moment) time.Duration {
	began := u.run.spawnedAt
	if p := u.passes.open; p != nil {
		began = p.BeganAt
	} else if p := u.passes.last; p != nil {
		began = p.BeganAt
	}
	return now.Sub(began)
}
