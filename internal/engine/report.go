package engine

import (
	"cmp"
	"fmt"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api/report"
	"omnivigil/internal/text/format"
)

// Reported says what a unit's output has meant so far: the results of its tests, and the places
// in files that its tools have told of. It is made of what package results reads.
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

// Words says what is wrong by the report: "2 tests failing (1 new): TestBerths, TestTides", or
// "3 errors (1 new): berths.go:8:5: undefined: tide"; empty where nothing is.
func (r Report) Words() string {
	switch {
	case r.Failed > 0:
		text := format.Count(r.Failed, "test") + " failing" + newWords(r.New) + ": " + strings.Join(r.Names, ", ")
		if r.Failed > len(r.Names) {
			text += ", ..."
		}
		return text
	case r.Errors == 1:
		return r.First
	case r.Errors > 1:
		return format.Count(r.Errors, "error") + newWords(r.Added) + ": " + r.First
	}
	return ""
}

// warningWords is Words for a run that has failed by warnings alone.
func (r Report) warningWords() string {
	if r.Warnings == 0 {
		return ""
	}
	return format.Count(r.Warnings, "warning") + newWords(r.Added) + ": " + r.First
}

// soFar says what a run that is under way has told of failed tests; empty: nothing.
func (r Report) soFar() string {
	if r.FailedNow == 0 {
		return ""
	}
	return format.Count(
		r.FailedNow,
		"test",
	) + " failing so far: " + strings.Join(
		r.Names[:min(len(r.Names), r.FailedNow)],
		", ",
	)
}

// WordsOf is Words, but only where that run has said something.
func (r Report) WordsOf(run int) string {
	if r.Run != run {
		return ""
	}
	return r.Words()
}

func newWords(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprintf(" (%d new)", n)
}

// Totals tells the numbers: "14 tests, 1 failing, 2 skipped; 3 warnings". Empty: there are none.
func (r Report) Totals() string {
	var parts []string
	add := func(n int, what string) {
		if n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s", n, what))
		}
	}
	if r.Cases > 0 {
		if !r.OnlyFailures {
			parts = append(parts, format.Count(r.Cases, "test"))
		}
		add(r.Failed, "failing"+newWords(r.New))
		add(r.Fixed, "fixed")
		add(r.Skipped, "skipped")
		add(r.Flaky, "flaky")
		add(r.Slow, "slow")
	}
	tests := strings.Join(parts, ", ")
	if parts = nil; r.Errors > 0 {
		parts = append(parts, format.Count(r.Errors, "error"))
	}
	if r.Warnings > 0 {
		parts = append(parts, format.Count(r.Warnings, "warning"))
	}
	add(r.Added, "new")
	add(r.Gone, "gone")
	return strings.Join(
		slices.DeleteFunc([]string{tests, strings.Join(parts, ", ")}, func(s string) bool { return s == "" }),
		"; ",
	)
}

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

// reportWords says what is wrong by what the newest run has said; empty where it has said
// nothing.
func (u *unit) reportWords() string {
	if u.run == nil {
		return ""
	}
	return u.report.WordsOf(u.run.Number)
}

// findingWords tell what tools have said that breaks nothing.
func (e *Engine) findingWords() string {
	e.reports = slices.DeleteFunc(e.reports, func(u *unit) bool { return u.removed })
	warnings, errors := 0, 0
	for _, u := range e.reports {
		if u.wanted {
			warnings, errors = warnings+u.report.Warnings, errors+u.report.Errors
		}
	}
	var parts []string
	if errors > 0 {
		parts = append(parts, format.Count(errors, "error"))
	}
	if warnings > 0 {
		parts = append(parts, format.Count(warnings, "warning"))
	}
	if len(parts) == 0 {
		return ""
	}
	return "; " + strings.Join(parts, ", ")
}

// narrow has units run some of their cases only, until they are widened.
func (e *Engine) narrow(units []*unit, words []string, to string) {
	text := "you narrowed " + unitNames(units) + " to " + to
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Text: text})
	for _, u := range units {
		u.narrowed, u.narrowWords = to, slices.Clone(words)
		e.force(u, r, text)
	}
}

// widen has units run all of their cases again.
func (e *Engine) widen(units []*unit) {
	units = slices.DeleteFunc(units, func(u *unit) bool { return u.narrowed == "" })
	if len(units) == 0 {
		return
	}
	text := "you widened " + unitNames(units) + " to all tests"
	r := e.ripples.open(e.now, Cause{Kind: CauseRequest, Text: text})
	for _, u := range units {
		u.narrowed, u.narrowWords = "", nil
		e.force(u, r, text)
	}
}

// narrowDone goes on after a good run of some cases: with all of them, where the settings say
// so. No unit builds on such a run: it says nothing of the others.
func (e *Engine) narrowDone(u *unit) {
	if u.spec.Widen && u.pending == nil && u.narrowed == u.run.narrowed && u.wanted {
		text := cmp.Or(u.narrowed, "some tests") + " passed, so all run again"
		u.narrowed, u.narrowWords = "", nil
		r := e.ripples.open(e.now, Cause{Kind: CauseRelease, Unit: u.spec.Name, Text: u.spec.Name + ": " + text})
		e.force(u, r, text)
	}
	for _, d := range u.downstream {
		e.enqueue(d)
	}
}
