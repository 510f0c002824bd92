package engine

import (
	"slices"

	"omnivigil/internal/plan"
)

// Snapshot is the project at one moment. Nothing in it changes afterwards, so it
// may be handed to any goroutine. What has not changed is shared with the snapshots
// before: it has the same address.
type Snapshot struct {
	At       Moment
	Project  string
	Verdict  Verdict
	Standing Standing
	Doubts   []Doubt   // about all wanted units
	Units    []*Unit   // in the order of the file
	Saves    []Save    // oldest first
	Ripples  []*Ripple // oldest first
	Broken   int       // how many ripples have ended broken, those that are forgotten included
	Longest  *Ripple   // that a save opened, of those at rest; nil: there is none
	Paused   bool
	Quitting bool
	// Settings is what is wrong with the newest edit of the settings, with its
	// place; the settings before it are in use. Empty when nothing is wrong.
	Settings string
	// SettingsPending says that settings were written that have not been read.
	SettingsPending bool
	Jobs            Jobs
}

// Jobs is who has those that there are.
type Jobs struct {
	Most  int      // how many there are; 0 is no limit
	Taken int      // how many are
	By    []string // by whom, the first few
	Alone bool     // the one that is at work runs alone
}

// namedJobs is how many of those who have a job are named.
const namedJobs = 2

// Save is a change as a point on the time axis.
type Save struct {
	At     Moment
	Ripple int
}

// Unit is one unit at one moment.
type Unit struct {
	Name      string
	Kind      plan.Kind // at the moment: a task may turn out to serve
	State     State
	Freshness Freshness
	Stale     *Staleness // nil unless Freshness is Stale
	Failure   *Failure   // nil unless State is broken
	Wait      Wait
	Wishes
	Report Report // what is known of its cases and findings
	Moving bool
	Turn
	Run      Run      // the newest; Number is 0 before the first
	Pass     Pass     // the newest of that run; Number is 0 where it has none
	Marks    []Mark   // its life, oldest first
	Suspects []string // files that changed since it last ran well
	Owed     []string // commands that a failed run has left undone
	Loop     *Loop    // that it was in, whose files are ignored; nil for none
	MayLoop  bool     // a run may have written what set off its newest
}

// Wishes are what the user wants of a unit.
type Wishes struct {
	Wanted   bool
	Paused   bool
	Words    []string // arguments that the user has added to its command
	Narrowed string   // to which cases the user has narrowed it; empty: to none
}

// Turn is when it is a unit's turn to run.
type Turn struct {
	Queued  bool   // one more run follows the one at work
	InLine  bool   // it waits for a job
	Alone   bool   // nothing else runs at the same time
	RetryAt Moment // when a crashed service is started again
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

// Snapshot returns the project as it is after the newest step.
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

// jobs tells who has the jobs, as far as a unit waits for one.
func (e *Engine) jobs() Jobs {
	j := Jobs{Most: e.plan.Jobs}
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

// kind is what the unit is at the moment.
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

// Span is a part of a run's life, or of the time before it.
type Span struct {
	Phase Phase
	From  Moment
	To    Moment // zero while it lasts
	Step  string // what was run, in PhaseSetup
	On    string // the unit it waited for, in PhaseWaiting
}

// Phase is what a Span was spent on.
type Phase uint8

const (
	PhaseDebounce Phase = iota // files were not quiet yet
	PhaseQueued                // behind the run before it, or for a job
	PhaseWaiting               // for a need or something it follows
	PhaseStopping              // the run before it was told to end
	PhaseSetup
	PhaseStarting
	PhaseRunning
)

func (p Phase) String() string {
	return [...]string{"debounce", "queued", "waiting", "stopping", "setup", "starting", "running"}[p]
}
