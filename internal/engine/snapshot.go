package engine

import (
	"slices"

	"omnivigil/internal/plan"
)

// Snapshot is the project at one moment. It is immutable, so it may be passed to any goroutine. What has not changed
// is shared with earlier snapshots: it has the same address.
type Snapshot struct {
	At       Moment
	Project  string
	Verdict  Verdict
	Standing Standing
	Doubts   []Doubt   // about all enabled units
	Units    []*Unit   // in the order of the file
	Saves    []Save    // oldest first
	Ripples  []*Ripple // oldest first
	Broken   int       // the number of ripples that ended broken, including dropped ones
	Longest  *Ripple   // the longest one of a save, of those at rest; nil: none
	Paused   bool
	Quitting bool
	// Settings is what is wrong with the newest edit of the settings, with its location; the settings before it are
	// in use. Empty: nothing.
	Settings string
	// SettingsPending: settings were written that have not been read.
	SettingsPending bool
	Jobs            Jobs
}

// Jobs is the state of the jobs.
type Jobs struct {
	Most  int      // the limit; 0: none
	Now   int      // the limit now, because other programs use processors
	Taken int      // how many are taken
	By    []string // the units that have one; the first few
	Alone bool     // the running unit runs alone
}

// namedJobs limits the units with a job that are named.
const namedJobs = 2

// Save is a change on the time axis.
type Save struct {
	At     Moment
	Ripple int
}

// Unit is one unit at one moment.
type Unit struct {
	Name      string
	Kind      plan.Kind // the current kind: a task may turn out to serve
	State     State
	Freshness Freshness
	Stale     *Staleness // nil unless Freshness is Stale
	Failure   *Failure   // nil unless State is broken
	Wait      Wait
	Wishes
	Report Report // its cases and findings
	Moving bool
	Turn
	Run      Run      // the newest; Number 0: none
	Pass     Pass     // the newest of that run; Number 0: none
	Marks    []Mark   // its states over time, oldest first
	Suspects []string // the files that changed since it last ran well
	Owed     []string // commands that a failed run has left undone
	Loop     *Loop    // a loop that was stopped, whose files are ignored; nil: none
	MayLoop  bool     // a run may have written what set off its newest run
}

// Wishes are what the user wants of a unit.
type Wishes struct {
	Wanted   bool
	Paused   bool
	Words    []string // arguments that the user has added to its command
	Narrowed string   // a description of the cases that the user has narrowed it to; empty: all
}

// Turn is whether and when a unit may run.
type Turn struct {
	Queued  bool   // another run follows the current one
	InLine  bool   // it waits for a job
	Alone   bool   // it runs only while nothing else does
	RetryAt Moment // when a crashed service is restarted
}

// Unit returns the unit of that name, or nil.
func (s *Snapshot) Unit(name string) *Unit {
	for _, u := range s.Units {
		if u.Name == name {
			return u
		}
	}
	return nil
}

// Snapshot returns the project after the newest step.
func (e *Engine) Snapshot() *Snapshot {
	st := &e.standings
	for _, u := range st.unshown {
		if u.unshown = false; st.at(u) {
			st.shown[u.place] = u.snapshot()
		}
	}
	st.unshown = st.unshown[:0]
	return &Snapshot{
		At: e.now, Project: e.plan.Name, Verdict: e.verdict(), Standing: e.standing(), Doubts: e.doubts(),
		Units: slices.Clone(st.shown), Saves: e.saves[:len(e.saves):len(e.saves)],
		Paused: e.paused, Quitting: e.quitting, Settings: e.broken, SettingsPending: e.settingsPending(),
		Jobs: e.jobs(), Ripples: e.ripples.shown(), Broken: e.ripples.broken, Longest: e.ripples.longest,
	}
}

// jobs returns the state of the jobs, if a unit waits for one.
func (e *Engine) jobs() Jobs {
	j := Jobs{Most: e.plan.Jobs, Now: e.jobLimit()}
	if len(e.line) == 0 {
		return j
	}
	working := e.working()
	for _, u := range working[:min(len(working), namedJobs)] {
		j.By = append(j.By, u.spec.Name)
	}
	j.Taken, j.Alone = len(working), len(working) > 0 && working[0].spec.Alone
	return j
}

// kind is the current kind of the unit.
func (u *unit) kind() plan.Kind {
	if u.spec.MayServe && !u.ends() {
		return plan.Service
	}
	return u.spec.Kind
}

func (u *unit) snapshot() *Unit {
	out := &Unit{
		Name:      u.spec.Name,
		Kind:      u.kind(),
		State:     u.state,
		Freshness: u.freshness(),
		Failure:   u.failure(),
		Wait:      u.wait(),
		Wishes:    Wishes{Wanted: u.wanted, Paused: u.paused, Words: u.words, Narrowed: u.narrowed},
		Report:    u.report,
		Moving:    u.moving,
		Turn: Turn{
			Queued: u.pending != nil && u.live(), InLine: u.inLine(), Alone: u.spec.Alone, RetryAt: u.retryAt,
		},
		Marks:    u.marks[:len(u.marks):len(u.marks)],
		Suspects: slices.Clone(u.suspects),
		Owed:     u.owed.texts(u.spec),
		Loop:     u.loop,
	}
	if out.Freshness == Stale {
		s := u.staleness()
		out.Stale = &s
	}
	if u.run != nil {
		out.Run = u.run.Run
		out.MayLoop = len(u.run.chain)+len(u.passes.chain) > 0
		out.Run.Spans = slices.Clone(u.run.Spans)
	}
	if p := u.passes.open; p != nil {
		out.Pass = p.Pass
	} else if p := u.passes.last; p != nil {
		out.Pass = p.Pass
	}
	return out
}

// Span is a part of a run's duration, or of the time before it.
type Span struct {
	Phase Phase
	From  Moment
	To    Moment // zero: it continues
	Step  string // in PhaseSetup: the command
	On    string // in PhaseWaiting: the unit it waited for
}

// Phase is how a Span was spent.
type Phase uint8

const (
	PhaseDebounce Phase = iota // files were not yet quiet
	PhaseQueued                // after the previous run, or for a job
	PhaseWaiting               // for a need or a followed unit
	PhaseStopping              // the previous run was told to end
	PhaseSetup
	PhaseStarting
	PhaseRunning
)

func (p Phase) String() string {
	return [...]string{"debounce", "queued", "waiting", "stopping", "setup", "starting", "running"}[p]
}
