package engine

import (
	"path"
	"slices"
	"time"

	"omnivigil/internal/plan"
)

// A make compares file times to decide what to do. What it does not notice cannot be noticed here, either: a file
// that is older than what was made from it before, or one that was saved during a run that wrote files afterwards. A
// rerun does not change that, so such a doubt stays until the file is newer than everything that the unit has made.

// DoubtKind is the kind of a doubt.
type DoubtKind string

const (
	// DoubtOlder: a file was put in place that is older than what the unit's newest run may have made.
	DoubtOlder DoubtKind = "older-file"
	// DoubtDuring: a file was saved during a run of the unit that wrote files afterwards.
	DoubtDuring DoubtKind = "saved-during-run"
	// DoubtMissed: files were not watched for a while, and may have been saved during a run of the unit.
	DoubtMissed DoubtKind = "not-watched"
	// DoubtOutput: something other than its task has changed an output.
	DoubtOutput DoubtKind = "changed-output"
	// DoubtUncovered: the unit's newest run was seen to read a file that none of its rules covers.
	DoubtUncovered DoubtKind = "uncovered-read"
	// DoubtNeed: the unit runs, and a service that it needs has been stopped or does not answer.
	DoubtNeed DoubtKind = "need-gone"
)

// aboutTimes reports whether the doubt is about a program that compares file times.
func (d Doubt) aboutTimes() bool {
	return d.Kind == DoubtOlder || d.Kind == DoubtDuring || d.Kind == DoubtMissed
}

// Doubt is a reason why a unit may not be current although everything known says that it is.
type Doubt struct {
	Unit  string
	Kind  DoubtKind
	File  string // empty: unknown
	Need  string // of DoubtNeed: the service
	Since Moment
	// Until is the time on the wall clock that File must be newer than for the doubt to end; zero: that would not end
	// it.
	Until   time.Time
	Program string // that compares file times
}

// maxDoubts limits the doubts about one unit; the newest are kept.
const maxDoubts = 20

func (e *Engine) doubt(u *unit, d Doubt) {
	d.Unit, d.Since, d.Program = u.spec.Name, e.now, path.Base(u.spec.Run.Program())
	same := func(have Doubt) bool { return have.Kind == d.Kind && have.File == d.File && have.Need == d.Need }
	u.doubts = append(slices.DeleteFunc(slices.Clone(u.doubts), same), d)
	u.doubts = u.doubts[max(len(u.doubts)-maxDoubts, 0):]
	e.show(u)
}

func (e *Engine) endDoubts(u *unit, over func(Doubt) bool) {
	if slices.ContainsFunc(u.doubts, over) {
		u.doubts = slices.DeleteFunc(slices.Clone(u.doubts), over) // snapshots share the old ones
		e.show(u)
	}
}

// saves are files that were saved during a run.
type saves struct {
	hits  []Hit
	since time.Time // the earliest time at which the first of them was written
	by    *run
}

// abandonAtOnce ends a run that compares file times as soon as one of its files is written: what it makes from now on
// would be newer than the file. What it should do remains to be done.
func (e *Engine) abandonAtOnce(u *unit) {
	if u.state != Running || u.spec.Overlap != plan.Abandon || e.paused || u.paused || len(u.run.chain) > 0 {
		return
	}
	for _, r := range u.run.ripples {
		if !r.Resting() {
			e.ask(u, r, Reason{}, u.run.pays).cut = true
		}
	}
	if u.pending != nil {
		e.stop(u, toAct)
	}
}

// doubtTimes records the doubts that settled files leave about a unit whose program compares file times. T is the
// unit's touch of the burst. It reports whether a doubt has ended, because a file is now newer than what was made.
func (e *Engine) doubtTimes(u *unit, t touch, hits []Hit) (ended bool) {
	if !u.spec.ComparesTimes {
		return false
	}
	var during []Hit // that may have been saved during a run, and are not in doubt for another reason
	for _, h := range hits {
		e.endDoubts(u, func(d Doubt) bool {
			over := d.File == h.Path && !d.Until.IsZero() && (h.What == "removed" || h.ModTime.After(d.Until))
			ended = ended || over
			return over
		})
		switch made := e.madeBefore(t, h); {
		case h.What == Missed:
			e.doubt(u, Doubt{Kind: DoubtMissed, File: h.Path})
		case !h.ModTime.IsZero() && !made.IsZero() && !h.ModTime.After(made): // with the same time, it is not newer
			e.doubt(u, Doubt{Kind: DoubtOlder, File: h.Path, Until: made})
		default:
			during = append(during, h)
		}
	}
	if t.during != nil && len(during) > 0 {
		u.saved = append(u.saved, saves{during, t.since, t.during})
		if !t.during.EndedAt.IsZero() {
			e.doubtSaved(u, t.during)
		}
	}
	return ended
}

// madeBefore returns the latest time that the wall clock had shown when a run may have made something before a file
// was put in place; zero: no run has.
func (e *Engine) madeBefore(t touch, h Hit) time.Time {
	if t.during == nil {
		return t.made
	}
	soon := noticeTime // the run may have made something just before
	if e.clockSet.After(t.during.spawnedAt) {
		soon = 0 // and at a later time than the clock has shown since
	}
	if h.ModTime.Before(t.latest.Add(-soon)) {
		return e.latest
	}
	return t.made
}

// doubtSaved records which files were saved during a run that is over, if it has written files afterwards: those are
// newer, or of the same time, and hide the save.
func (e *Engine) doubtSaved(u *unit, over *run) {
	for _, s := range u.saved {
		if s.by != over || over.newest.IsZero() {
			continue
		}
		for _, h := range s.hits {
			saved := h.ModTime
			if saved.IsZero() {
				saved = s.since
			}
			if !saved.After(over.newest) || over.clockSet {
				e.doubt(u, Doubt{Kind: DoubtDuring, File: h.Path, Until: over.latest})
			}
		}
	}
	u.saved = slices.DeleteFunc(u.saved, func(s saves) bool { return s.by == over })
}

// outputsGone reruns a task whose outputs are gone, as after a save.
func (e *Engine) outputsGone(ev OutputsGone) {
	u := e.byName[ev.Unit]
	if u == nil || !u.spec.Kind.Ends() || u.live() {
		return
	}
	u.gone = slices.Clone(ev.Files)
	e.touched(Touched{Burst: ev.Burst, Units: []string{ev.Unit}})
	change := Change{Burst: ev.Burst, Since: e.now}
	for _, f := range ev.Files {
		change.Hits = append(change.Hits, Hit{Unit: ev.Unit, Path: f, What: "removed", Rule: f})
	}
	e.change(change)
}

func (e *Engine) outputChanged(ev OutputChanged) {
	if u := e.byName[ev.Unit]; u != nil && !u.live() {
		e.doubt(u, Doubt{Kind: DoubtOutput, File: ev.File})
	}
}

// uncovered notes which files a run was seen to read and no rule covers. A doubt that was dismissed stays so, because
// its file is not new.
func (e *Engine) uncovered(ev Uncovered) {
	u := e.byName[ev.Unit]
	if u == nil || u.run == nil || u.run.Number != ev.Run {
		return
	}
	e.endDoubts(u, func(d Doubt) bool { return d.Kind == DoubtUncovered && !slices.Contains(ev.Files, d.File) })
	for _, file := range ev.Files {
		if !slices.Contains(u.uncovered, file) {
			e.doubt(u, Doubt{Kind: DoubtUncovered, File: file})
		}
	}
	u.uncovered = ev.Files
}

// forgetUncovered ends these doubts when a unit runs again.
func (e *Engine) forgetUncovered(u *unit) {
	u.uncovered = nil
	e.endDoubts(u, func(d Doubt) bool { return d.Kind == DoubtUncovered })
}

// doubtNeeds notes which services a running unit needs that are gone. A doubt that was dismissed stays so until its
// service is back.
func (e *Engine) doubtNeeds(u *unit) {
	var gone []string
	for _, up := range u.needs {
		stopped := !up.wanted && !up.live()
		if u.live() && !e.quitting && up.spec.Kind == plan.Service && (stopped || up.live() && up.run.ails) {
			gone = append(gone, up.spec.Name)
		}
	}
	if slices.Equal(gone, u.needsGone) {
		return
	}
	before := u.needsGone
	u.needsGone = gone
	e.endDoubts(u, func(d Doubt) bool { return d.Kind == DoubtNeed && !slices.Contains(gone, d.Need) })
	for _, name := range gone {
		if !slices.Contains(before, name) {
			e.doubt(u, Doubt{Kind: DoubtNeed, Need: name})
		}
	}
}

// dismiss removes the doubts about units, or all doubts.
func (e *Engine) dismiss(units []*unit) {
	if len(units) == 0 {
		units = e.units
	}
	for _, u := range units {
		e.endDoubts(u, func(Doubt) bool { return true })
	}
}

// doubts are the doubts about all enabled units, in the order of the file.
func (e *Engine) doubts() []Doubt {
	var all []Doubt
	for _, u := range e.standings.doubted {
		if u.wanted {
			all = append(all, u.doubts...)
		}
	}
	return all
}
