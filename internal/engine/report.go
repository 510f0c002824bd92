package engine

import (
	"slices"
	"time"

	"omnivigil/internal/api/report"
)

// Reported is what a unit's output has meant so far: the results of its tests, and the locations that its tools have
// reported. Its source is package results.
type Reported struct {
	Unit   string
	Run    int
	Report Report
	// Fails: this makes the run a failed one, whatever its exit status.
	Fails bool
	// Problem is why it has failed, if Report does not tell.
	Problem string
	// Final: the run's output has been read to its end; later reports are late.
	Final bool
}

// Report is a summary of a unit's cases and findings. It is kept from run to run: a run of some cases does not change
// the others.
type Report struct {
	report.Counts
	Usual    time.Duration // the duration of a whole run; 0: unknown
	FailedAt time.Time     // the time of the first failed case in the newest run; zero: none has failed
}

// Wrong reports whether there is a failing test or an error.
func (r Report) Wrong() bool { return r.Failed > 0 || r.Errors > 0 }

// reported handles what a run's output has meant so far. Reports of one run may be late and out of order: only newer
// ones count, and none after the final one.
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

// reportedWrong returns the problems in the output of the newest run; nil: none.
func (u *unit) reportedWrong() *Report {
	if u.run == nil || u.report.Run != u.run.Number || !u.report.Wrong() {
		return nil
	}
	report := u.report
	return &report
}

// narrow makes units run only some of their cases, until they are widened.
func (e *Engine) narrow(units []*unit, words []string, to string) {
	reason := Reason{Kind: ReasonNarrowed, Units: namesOf(units), Text: to}
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Reason: reason})
	for _, u := range units {
		u.narrowed, u.narrowWords = to, slices.Clone(words)
		e.force(u, r, reason)
	}
}

// widen makes units run all of their cases again.
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

// narrowDone continues after a good run of some cases: with all of them, if the settings say so. No unit builds on
// such a run: it does not cover the other cases.
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
