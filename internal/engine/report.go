package engine

import (
	"slices"
	"time"

	"omnivigil/internal/api/report"
)

// Reported says what a unit's output has meant so far: the results of its tests, and the places
// in files that its tools have reported. It is made of what package results reads.
type Reported struct {
	Unit   string
	Run    int
	Report Report
	// Fails says that this is reason enough for the run to have failed, however it exits.
	Fails bool
	// Problem is why it has failed, where Report does not say.
	Problem string
	// Final says that the run has been read to its end: what still comes of it is late.
	Final bool
}

// Report is what is known of a unit's cases and findings, in a few numbers. It lives on from
// run to run: a run of some cases says nothing of the others.
type Report struct {
	report.Counts
	Usual    time.Duration // that a whole run takes; 0: not known
	FailedAt time.Time     // when the first case failed in the newest run; zero: none has
}

// Wrong reports whether the report says that something is wrong: a failing test or an error.
func (r Report) Wrong() bool { return r.Failed > 0 || r.Errors > 0 }

// reported notes what a run's output has meant so far. Reports of one run may come late, and in
// another order than they were made: only what is newer counts, and nothing after the final one.
func (e *Engine) reported(ev Reported) {
	u := e.byName[ev.Unit]
	if u == nil || u.run == nil || u.run.Number != ev.Run || u.run.reportedAll ||
		!ev.Final && ev.Report.Version < u.run.reported {
		return
	}
	u.report = ev.Report
	u.run.reported, u.run.reportedAll = ev.Report.Version, ev.Final
	if u.live() {
		u.run.fails, u.run.failsBy = ev.Fails, ev.Problem
	}
	if !slices.Contains(e.reports, u) {
		e.reports = append(e.reports, u)
	}
	e.show(u)
}

// reportedWrong returns what the output of the newest run said is wrong; nil: nothing.
func (u *unit) reportedWrong() *Report {
	if u.run == nil || u.report.Run != u.run.Number || !u.report.Wrong() {
		return nil
	}
	report := u.report
	return &report
}

// narrow has units run some of their cases only, until they are widened.
func (e *Engine) narrow(units []*unit, words []string, to string) {
	reason := Reason{Kind: ReasonNarrowed, Units: namesOf(units), Text: to}
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Reason: reason})
	for _, u := range units {
		u.narrowed, u.narrowWords = to, slices.Clone(words)
		e.force(u, r, reason)
	}
}

// widen has units run all of their cases again.
func (e *Engine) widen(units []*unit) {
	units = slices.DeleteFunc(units, func(u *unit) bool { return u.narrowed == "" })
	if len(units) == 0 {
		return
	}
	reason := Reason{Kind: ReasonWidened, Units: namesOf(units)}
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Reason: reason})
	for _, u := range units {
		u.narrowed, u.narrowWords = "", nil
		e.force(u, r, reason)
	}
}

// narrowDone continues after a good run of some cases: with all of them, where the settings say
// so. No unit builds on such a run: it says nothing of the others.
func (e *Engine) narrowDone(u *unit) {
	if u.spec.Widen && u.pending == nil && u.narrowed == u.run.narrowed && u.wanted {
		reason := Reason{Kind: ReasonNarrowPassed, Unit: u.spec.Name, Text: u.narrowed}
		u.narrowed, u.narrowWords = "", nil
		r := e.ripples.open(e.now, Cause{Kind: CauseRelease, Unit: u.spec.Name, Reason: reason})
		reason.Unit = "" // the run's own
		e.force(u, r, reason)
	}
	for _, d := range u.downstream {
		e.enqueue(d)
	}
}
