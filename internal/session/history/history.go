// Package history writes what happens in a session into the history of its project: runs, ripples, passes, tests,
// findings and samples, with the commit that was checked out. It hears of them as faces do, and off the loop, so
// writing never delays a run. Start reading at Recorder.
package history

import (
	"context"
	"runtime"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/plan"
	"omnivigil/internal/process/meter"
	"omnivigil/internal/results"
	"omnivigil/internal/store/history"
	"omnivigil/internal/watch/repository"
)

// Source is the session as the recorder sees it. Its methods may be called from any goroutine.
type Source interface {
	Subscribe(ctx context.Context, since int64, hear func(api.Fact) error) error
	Snapshot(ctx context.Context) (*api.Snapshot, error)
	Findings(ctx context.Context, q api.ResultQuery) (api.FindingPage, error)
	Plan() *plan.Plan
	Written(unit string) int64 // bytes of output since the session began
	// Load returns how many threads of other programs could run at this moment; false: that is not known.
	Load() (others int, known bool)
}

// Recorder records one session.
type Recorder struct {
	source Source
	out    *history.Writer
	head   *head

	mu      sync.Mutex
	written map[string]int64 // by unit, when its run began
	runs    map[string]int   // the newest, by unit
	working map[string]bool  // tasks and suites that are running
	loads   []load
	last    map[string]meter.Sample // by unit
}

// load is what other programs did at a time.
type load struct {
	at     time.Time
	others int
}

// New returns a recorder that writes to a history, which Follow closes.
func New(source Source, out *history.Writer, root string) *Recorder {
	return &Recorder{
		source: source, out: out, head: headOf(root), written: map[string]int64{}, runs: map[string]int{},
		working: map[string]bool{}, last: map[string]meter.Sample{},
	}
}

// Follow records until the session has ended, then closes the history. It blocks. The error tells why nothing more is
// recorded.
func (r *Recorder) Follow() error {
	err := r.source.Subscribe(context.Background(), 0, func(f api.Fact) error {
		r.hear(f)
		return nil
	})
	r.out.Close()
	return err
}

// hear records a fact.
func (r *Recorder) hear(f api.Fact) {
	switch f.Kind {
	case factRippleOpened:
		r.head.saved = true
	case factRunStarted: // nothing else is done now: the run's first byte is waited for
		u := r.source.Plan().Unit(f.Unit)
		r.mu.Lock()
		r.written[f.Unit], r.runs[f.Unit] = r.source.Written(f.Unit), f.Run
		if u != nil && u.Kind.Ends() {
			r.working[f.Unit] = true
		}
		r.mu.Unlock()
	case factPassEnded:
		r.passed(f)
	case factRunEnded:
		r.look()
		r.ran(f)
		r.mu.Lock()
		delete(r.working, f.Unit)
		r.mu.Unlock()
	case factRippleRested:
		if f.RippleWas != nil {
			r.out.Rested(history.Ripple{
				Ripple: *f.RippleWas, Loaded: r.loaded(f.RippleWas.Since, f.At), Revision: r.head.now(f.At),
			})
		}
	}
}

// The kinds of facts that are recorded; the engine names them.
const (
	factRunStarted   = "run-started"
	factRunEnded     = "run-ended"
	factPassEnded    = "pass-ended"
	factRippleOpened = "ripple-opened"
	factRippleRested = "ripple-rested"
)

// ran records a run that has ended, and the findings that it has changed.
func (r *Recorder) ran(f api.Fact) {
	u := r.source.Plan().Unit(f.Unit)
	if u == nil || f.RunWas == nil {
		return
	}
	run := history.Run{
		Unit: f.Unit, Kind: u.Kind.String(), Run: *f.RunWas, State: f.State, Findings: -1,
		Loaded: r.loaded(f.RunWas.OrderedAt, f.At), Revision: r.head.now(f.At),
	}
	switch {
	case f.State == api.Done && f.RunWas.ReusedAt.IsZero():
		run.Took = f.Took.Duration()
	case !u.Kind.Ends() && !f.RunWas.ReadyAt.IsZero():
		run.Took = f.RunWas.ReadyAt.Sub(f.RunWas.OrderedAt)
	}
	r.mu.Lock()
	run.Output = r.source.Written(f.Unit) - r.written[f.Unit]
	r.mu.Unlock()
	if !u.Findings.Off {
		run.Findings = r.findings(f, run.Kind)
	}
	r.out.Ran(run)
}

// maxFindings is how many new and gone findings of a run are recorded.
const maxFindings = 1000

// findings records the findings that a run reports as new or gone, and returns how many there are.
func (r *Recorder) findings(f api.Fact, kind string) int {
	for _, only := range []string{"new", "gone"} {
		page, err := r.source.Findings(context.Background(), api.ResultQuery{
			Units: []string{f.Unit}, Only: only, By: "unit", Count: maxFindings,
		})
		if err != nil {
			return -1
		}
		for _, found := range page.Findings {
			found.Location = found.From(r.source.Plan().Root)
			r.out.Found(history.Finding{Unit: f.Unit, Kind: kind, At: f.At, Finding: found})
		}
	}
	snap, err := r.source.Snapshot(context.Background())
	if err != nil || snap.Unit(f.Unit) == nil {
		return -1
	}
	report := snap.Unit(f.Unit).Report
	return report.Errors + report.Warnings
}

// passed records a pass.
func (r *Recorder) passed(f api.Fact) {
	u := r.source.Plan().Unit(f.Unit)
	if u == nil {
		return
	}
	r.out.Passed(history.Pass{
		Unit: f.Unit, Kind: u.Kind.String(), Run: f.Run,
		Pass: api.Pass{
			Number: f.Pass, BeganAt: f.At.Add(-f.Took.Duration()), EndedAt: f.At, Good: f.State == api.Ready, Saw: f.Problem,
		},
	})
}

// Tested records the results of a run. It may be called from any goroutine.
func (r *Recorder) Tested(u *plan.Unit, run int, began time.Time, same bool, cases []results.Case) {
	out := make([]history.Case, len(cases))
	for i, c := range cases {
		status := map[results.Status]api.CaseStatus{results.Passed: api.CasePassed, results.Failed: api.CaseFailed}[c.Status]
		if status == "" {
			status = api.CaseSkipped
		}
		out[i] = history.Case{Suite: c.Suite, Name: c.Name, Status: status, Took: c.Took}
	}
	r.out.Tested(history.Results{Unit: u.Name, Kind: u.Kind.String(), Run: run, Began: began, Same: same, Cases: out})
}

// Stood records the state of the project. It may be called from any goroutine.
func (r *Recorder) Stood(s *api.Snapshot) { r.out.Stood(s) }

// Changed records what a ripple has changed. It may be called from any goroutine.
func (r *Recorder) Changed(c history.Change) { r.out.Changed(c) }

// Judged records a verdict. It may be called from any goroutine.
func (r *Recorder) Judged(v api.PastVerdict) { r.out.Judged(v) }

// Sampled records what units use of the machine, if that has changed. A unit without a sample uses nothing. It may be
// called from any goroutine.
func (r *Recorder) Sampled(now time.Time, all map[string]meter.Sample) {
	var moved []history.Sample
	p := r.source.Plan()
	r.mu.Lock()
	works := len(r.working) > 0
	add := func(unit string, s meter.Sample) {
		u := p.Unit(unit)
		if u == nil || !s.Differs(r.last[unit]) {
			return
		}
		r.last[unit] = s
		moved = append(moved, history.Sample{
			Unit: unit, Kind: u.Kind.String(), Run: r.runs[unit], At: now, CPU: s.CPU, Memory: s.Memory, Output: s.Output,
		})
	}
	for unit, s := range all {
		add(unit, s)
	}
	for unit, s := range r.last {
		if _, has := all[unit]; !has {
			add(unit, meter.Sample{Output: s.Output})
		}
	}
	r.mu.Unlock()
	if works { // otherwise nothing is measured that load could slow down, and an idle project costs nothing
		r.look()
	}
	if len(moved) > 0 {
		r.out.Used(moved)
	}
}

const (
	maxLoads  = 2000
	loadPause = 200 * time.Millisecond // the minimum time between two looks
)

// look notes what other programs do.
func (r *Recorder) look() {
	now := time.Now()
	r.mu.Lock()
	recent := len(r.loads) > 0 && now.Sub(r.loads[len(r.loads)-1].at) < loadPause
	r.mu.Unlock()
	if recent {
		return
	}
	others, known := r.source.Load()
	if !known {
		return
	}
	r.mu.Lock()
	if r.loads = append(r.loads, load{now, others}); len(r.loads) > 2*maxLoads {
		r.loads = append([]load(nil), r.loads[maxLoads:]...)
	}
	r.mu.Unlock()
}

// loaded reports whether other programs used a quarter of the machine or more, and at least a processor, on the average
// of a time.
func (r *Recorder) loaded(from, to time.Time) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	sum, n := 0, 0
	for i := len(r.loads) - 1; i >= 0 && (n == 0 || !r.loads[i].at.Before(from)); i-- {
		if !r.loads[i].at.After(to.Add(loadPause)) {
			sum += r.loads[i].others
			n++
		}
	}
	return n > 0 && float64(sum)/float64(n) >= max(float64(runtime.NumCPU())/4, 1)
}

// head is what is checked out. Its methods are for one goroutine.
type head struct {
	repository *repository.Repository // nil: there is none
	looked     time.Time              // when it was asked whether the files are as committed
	of         string                 // the commit then
	clean      int
	saved      bool // something may have been saved since
}

func headOf(root string) *head {
	h := &head{clean: history.NotKnown}
	if top := repository.Top(root); top != "" {
		h.repository = repository.Open(top)
	}
	return h
}

const (
	cleanPause    = 10 * time.Second // the minimum time between two questions whether the files are as committed
	cleanPatience = 3 * time.Second  // for an answer
)

// now returns what is checked out, for a run that ended at a time.
func (h *head) now(at time.Time) history.Revision {
	if h.repository == nil {
		return history.Revision{}
	}
	commit, branch := h.repository.Head()
	if commit == "" {
		return history.Revision{}
	}
	// Files that are changed stay so until the next commit, usually: that need not be asked at each save.
	if commit != h.of || at.Sub(h.looked) > cleanPause || h.saved && h.clean != history.Changed {
		h.looked, h.of, h.clean, h.saved = time.Now(), commit, history.NotKnown, false
		ctx, stop := context.WithTimeout(context.Background(), cleanPatience)
		defer stop()
		if clean, known := h.repository.Clean(ctx); known {
			h.clean = history.Changed
			if clean {
				h.clean = history.Clean
			}
		}
	}
	return history.Revision{Hash: commit, Branch: branch, Clean: h.clean}
}
