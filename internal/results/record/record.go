// Package record follows a unit's cases and findings from run to run: which are new, which are still there, which are
// gone or fixed, and which tests are flaky or slow. A Record is a results.Sink, and is kept in a file across sessions
// (Keep, Load). It is for one goroutine. Start reading at Record and Summary.
package record

import (
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/results"
)

// TrackedCase is a case with its earlier results.
type TrackedCase struct {
	results.Case
	Change api.Change // empty: it passes or is skipped, as before; or the earlier result is unknown
	Run    int        // the newest in which it ran
	Flaky  bool       // its result changed without a change that affects its unit
	Slow   bool       // it took much longer than before
	Past   []Past     // its results, oldest first, including the newest; at most maxPast
	// first is the failure of a case that was repeated in the same run and passed. The end of the run shows whether
	// that counts.
	first *results.Case
}

// Past is an earlier result of a case.
type Past struct {
	Run    int
	Status results.Status
	Took   time.Duration
	// Epoch is the same for runs between which nothing has changed that affects the unit.
	Epoch int
	Both  bool // it has passed and failed in the same run
}

// Limits of a record; maxWritten limits the output of cases, in bytes.
const (
	maxWritten  = 32 << 20
	maxPast     = 20
	maxCases    = 200_000
	maxFindings = 50_000
)

// Run is how a run begins.
type Run struct {
	Number int
	// Command is what it runs instead of the unit's whole command; empty: that. It does not tell which cases it
	// leaves out.
	Command string
	// Same: nothing that affects the unit has changed since the run before began.
	Same bool
	// Partial: it may leave out cases of a suite that it runs.
	Partial bool
	At      time.Time
}

// Record follows the cases and findings of one unit from run to run. It is the Sink of the current run. It is for one
// goroutine.
type Record struct {
	Root string // the directory that locations in a Summary are relative to

	version  int
	fails    [results.Error + 1]bool // whether findings of a severity were reported in this round
	cases    map[api.CaseName]*TrackedCase
	written  int                 // bytes of the cases' output
	suitesOf map[string][]string // the suites with a case of a name
	findings []*TrackedFinding
	byFile   map[string][]*TrackedFinding

	round        int // of findings
	lastWhole    int // the number of cases in the last whole run
	lastTook     time.Duration
	onlyFailures bool // the runner reports suites without their passed cases
	underWay
}

// underWay is what is known of the current run.
type underWay struct {
	run     Run
	live    bool
	settled bool // a round has ended, so findings from now on can be new
	epoch   int
	planned int
	unnamed map[api.CaseName]bool // cases of this run whose suite is not yet known
	suites  map[string]bool       // the suites that have ended in this run; true: broken
	running map[api.CaseName]int  // the cases that have begun and not ended, with their order
	begun   int
}

// New returns a record of a unit that has not run.
func New() *Record {
	return &Record{
		cases: map[api.CaseName]*TrackedCase{}, suitesOf: map[string][]string{}, byFile: map[string][]*TrackedFinding{},
		underWay: underWay{
			suites: map[string]bool{}, running: map[api.CaseName]int{}, unnamed: map[api.CaseName]bool{},
		},
	}
}

// Begin begins a run.
func (r *Record) Begin(run Run) {
	if !run.Same {
		r.epoch++
	}
	r.run, r.live, r.planned, r.onlyFailures = run, true, 0, false
	r.unnamed, r.suites, r.running = map[api.CaseName]bool{}, map[string]bool{}, map[api.CaseName]int{}
	for _, c := range r.cases {
		if c.Change = ""; c.Status == results.Failed {
			c.Change = api.StillFailing
		}
	}
	r.NextRound()
}

// Reuse adopts the results of an earlier run, from Unmarshal: the run that has begun is over, and its results are
// those of that run. By is nil: nothing is known of it, except that it was good.
func (r *Record) Reuse(by *Record) {
	if by == nil {
		by = New()
	}
	root, run, version, epoch := r.Root, r.run, r.version, r.epoch
	*r = *by
	r.Root, r.run, r.version, r.epoch, r.settled = root, run, version+1, epoch, true
}

// Began implements Sink.
func (r *Record) Began(suite, name string) {
	if r.begun++; len(r.running) < maxCases {
		r.running[api.CaseName{Suite: suite, Name: name}] = r.begun
		r.version++
	}
}

// Planned implements Sink.
func (r *Record) Planned(cases int) {
	r.planned = min(r.planned+cases, maxCases)
	r.version++
}

// Ended implements Sink.
func (r *Record) Ended(c results.Case) {
	delete(r.running, api.CaseName{Suite: c.Suite, Name: c.Name})
	if c.Suite == "" {
		c.Suite = r.onlySuite(c.Name)
		r.unnamed[api.CaseName{Suite: c.Suite, Name: c.Name}] = true
	}
	r.enter(c)
}

// onlySuite returns the suite of a case that is known from earlier runs, if there is only one.
func (r *Record) onlySuite(name string) string {
	if suites := r.suitesOf[name]; len(suites) == 1 &&
		r.cases[api.CaseName{Suite: suites[0], Name: name}].Run != r.run.Number {
		return suites[0]
	}
	return ""
}

func size(lines []string) (n int) {
	for _, l := range lines {
		n += len(l)
	}
	return n
}

// drop forgets a case.
func (r *Record) drop(key api.CaseName) {
	r.written -= size(r.cases[key].Output)
	delete(r.cases, key)
	if r.suitesOf[key.Name] = slices.DeleteFunc(
		r.suitesOf[key.Name],
		func(s string) bool { return s == key.Suite },
	); len(
		r.suitesOf[key.Name],
	) == 0 {
		delete(r.suitesOf, key.Name)
	}
}

// enter adds a result of the current run.
func (r *Record) enter(c results.Case) {
	key := api.CaseName{Suite: c.Suite, Name: c.Name}
	t := r.cases[key]
	if t == nil {
		if len(r.cases) >= maxCases {
			return
		}
		t = &TrackedCase{}
		r.cases[key] = t
		r.suitesOf[key.Name] = append(r.suitesOf[key.Name], key.Suite)
	}
	n, both := len(t.Past), false
	switch again := n > 0 && t.Past[n-1].Run == r.run.Number && t.Run == r.run.Number; {
	case again && t.Status == results.Failed && c.Status == results.Passed:
		failed := t.Case
		t.first, both = &failed, true
		if c.Message = failed.Message; len(c.Output) == 0 {
			c.Output = failed.Output
		}
		t.Past = t.Past[:n-1]
	case again:
		both = t.Past[n-1].Both || t.Status == results.Passed && c.Status == results.Failed
		t.Past = t.Past[:n-1]
	}
	before := r.before(t)
	if r.written += size(c.Output) - size(t.Output); r.written > maxWritten {
		r.written -= size(c.Output)
		c.Output = nil
	}
	if t.Case, t.Run = c, r.run.Number; c.Status == results.Failed {
		t.first = nil
	}
	t.Past = append(t.Past, Past{r.run.Number, c.Status, c.Took, r.epoch, both})
	if over := len(t.Past) - maxPast; over > 0 {
		t.Past = slices.Delete(t.Past, 0, over)
	}
	t.Change = ""
	switch {
	case c.Status == results.Failed && before == results.Failed:
		t.Change = api.StillFailing
	case c.Status == results.Failed && (before == results.Passed || r.settled):
		t.Change = api.NewlyFailing
	case c.Status == results.Passed && before == results.Failed:
		t.Change = api.NewlyPassing
	}
	t.Flaky = t.changedMind()
	t.Slow = t.isSlow()
	r.version++
}

// before is a case's last result that was not skipped.
func (r *Record) before(t *TrackedCase) results.Status {
	for i := len(t.Past) - 1; i >= 0; i-- {
		if t.Past[i].Status != results.Skipped {
			return t.Past[i].Status
		}
	}
	return ""
}

// changedMind reports whether two consecutive results differ although nothing had changed.
func (t *TrackedCase) changedMind() bool {
	last := Past{}
	for _, p := range t.Past {
		switch {
		case p.Both:
			return true
		case p.Status == results.Skipped:
			continue
		}
		if last.Status != "" && last.Status != p.Status && last.Epoch == p.Epoch {
			return true
		}
		last = p
	}
	return false
}

// A case is slow if it took slowTimes the median of its earlier good results, of which there are at least enoughPast,
// and at least slowFrom.
const (
	slowTimes  = 3
	enoughPast = 4
	slowFrom   = 100 * time.Millisecond
)

func (t *TrackedCase) isSlow() bool {
	var took []time.Duration
	for _, p := range t.Past[:len(t.Past)-1] {
		if p.Status == results.Passed {
			took = append(took, p.Took)
		}
	}
	if len(took) < enoughPast || t.Took < slowFrom {
		return false
	}
	slices.Sort(took)
	return t.Took >= slowTimes*took[len(took)/2]
}

// SuiteEnded implements Sink.
func (r *Record) SuiteEnded(end results.SuiteEnd) {
	if end.Unnamed {
		for key := range r.unnamed {
			r.rename(key, end.Suite)
		}
		clear(r.unnamed)
	}
	r.suites[end.Suite] = end.Broken
	r.onlyFailures = r.onlyFailures || end.OnlyFailures
	for key, t := range r.cases {
		switch {
		case key.Suite != end.Suite:
		case t.Run == r.run.Number:
			t.Cached = end.Cached
		case end.Broken:
		case key.Name == "", !r.run.Partial && !end.OnlyFailures: // it no longer exists
			r.drop(key)
		case !r.run.Partial && t.Status == results.Failed:
			r.enter(results.Case{Suite: key.Suite, Name: key.Name, Status: results.Passed, Cached: end.Cached})
		}
	}
	r.version++
}

func (r *Record) whole() bool { return r.run.Command == "" }

// rename moves a result of the current run to its suite.
func (r *Record) rename(key api.CaseName, suite string) {
	t := r.cases[key]
	if t == nil || key.Suite == suite || t.Run != r.run.Number {
		return
	}
	c := t.Case
	if n := len(t.Past) - 1; n > 0 {
		t.Past = t.Past[:n]
		r.written -= size(t.Output)
		t.Run, t.Case = t.Past[n-1].Run, results.Case{
			Suite:  key.Suite,
			Name:   key.Name,
			Status: t.Past[n-1].Status,
			Took:   t.Past[n-1].Took,
		}
	} else {
		r.drop(key)
	}
	c.Suite = suite
	r.enter(c)
}

// End ends the run. Complete: it was not stopped, so what was not reported no longer exists; ok: it was good.
func (r *Record) End(at time.Time, complete, ok bool) {
	if !r.live {
		return
	}
	r.live = false
	if r.running = map[api.CaseName]int{}; !complete {
		r.version++
		return
	}
	r.Settle()
	ran, exitedWell := 0, ok
	ok = ok || r.Sum().FailedNow > 0
	for _, t := range r.cases {
		if t.Run != r.run.Number {
			continue
		}
		if ran++; !ok && t.first != nil { // nothing else explains why the run failed
			failed := *t.first
			t.first = nil
			r.enter(failed)
		}
	}
	if r.whole() && (ran > 0 || exitedWell) {
		for key, t := range r.cases {
			if _, ended := r.suites[key.Suite]; t.Run != r.run.Number && !ended &&
				(ran > 0 || t.Status == results.Failed) {
				r.drop(key)
			}
		}
	}
	if r.whole() {
		r.lastWhole, r.lastTook = ran, at.Sub(r.run.At)
	}
	r.version++
}
