package engine

import (
	"slices"
	"time"

	"omnivigil/internal/plan"
)

// State is what a unit is doing, in one word.
type State uint8

const (
	Idle     State = iota // never requested to run
	Waiting               // for a need
	Setup                 // expensive steps before the first run
	Starting              // a service that is not ready yet
	Ready                 // a service that is working
	Running               // a running task or suite
	Stopping              // told to end
	Done                  // a task or suite that succeeded
	Failed                // a task or suite that failed, or a service that was not ready in time
	Crashed               // a service that exited without a request
	Stopped               // by request
)

var stateNames = [...]string{"idle", "waiting", "setup", "starting", "ready", "running",
	"stopping", "done", "failed", "crashed", "stopped"}

func (s State) String() string { return stateNames[s] }

// InMotion reports whether a unit in this state will change its state by itself.
func (s State) InMotion() bool {
	return s == Setup || s == Starting || s == Running || s == Stopping
}

// Broken reports whether a unit in this state needs the user's attention.
func (s State) Broken() bool { return s == Failed || s == Crashed }

// unit is what the engine knows of one unit, in parts.
type unit struct {
	spec *plan.Unit
	links
	wishes

	state   State
	run     *run // the newest, live or ended; nil: none
	pending *act // what it will do as soon as possible
	ending  ending
	deaths  int // crashes in a row
	retryAt Moment
	report  Report // its cases and findings
	passes  passes // of its newest run, if that picks up changes by itself
	news    bool   // its newest good pass has not been passed on to followers
	removed bool   // from the settings; it is dropped when it has ended

	inputs
	selfMade
	products
	outlook
	display
}

// newUnit returns a unit that has not run.
func newUnit(spec *plan.Unit) *unit {
	return &unit{spec: spec, inputs: inputs{owed: pendingWork{whole: true}}}
}

// links are a unit's relations to others.
type links struct {
	rank       int     // position in the order of needs and follows
	needs      []*unit // must be ready or done before this unit starts
	follows    []*unit // this unit acts again when one of them has finished again
	followers  []*unit // the reverse of follows
	downstream []*unit // the reverse of needs and follows
}

// wishes are what the user wants of a unit.
type wishes struct {
	wanted bool     // it is enabled
	paused bool     // it does not react
	words  []string // arguments added to its command
	// narrowed describes the cases that it is narrowed to, and narrowing are the arguments for that; empty: all.
	narrowed    string
	narrowWords []string
}

// inputs are the writes that affect a unit, and which of them its newest good run (ready or done) could have read.
type inputs struct {
	touched     revision // the newest write that affects it
	settled     revision // the newest that will not be taken back
	touches     []touch  // those that have not settled, by burst
	rested      []int    // the newest bursts that have settled
	staleSince  Moment
	suspects    []string // files that changed since the last good run
	generation  int      // the number of good runs
	goodRead    revision
	goodBuiltOn map[string]int // the generation of each followed unit
	owed        pendingWork    // work that has to be done before it is current again
}

// selfMade are files that a unit, or others in a loop with it, may write themselves.
type selfMade struct {
	writings      []*writing // the newest ones that affect it
	loop          *Loop      // a loop that was stopped; nil: none
	results       []string   // files that its passes seem to write and that it did not pick up
	missedResults int        // how often, in a row
}

// products are what a unit's runs have made, as far as file times tell, and the doubts about it.
type products struct {
	madeFrom   Moment        // the process start of its newest run that may have written files
	madeAt     time.Time     // the latest time that the wall clock had shown when that run may have written files
	madeBefore time.Time     // madeAt of the run before
	lasted     time.Duration // the duration of its newest good run, until it was ready or over
	doubts     []Doubt
	uncovered  []string // files that its newest run was seen to read and no rule covers
	needsGone  []string // services that it needs while it runs, and that are stopped or do not answer
	saved      []saves  // files saved during runs, which leaves a doubt
	gone       []string // outputs that are missing
}

// outlook is computed by settle and recompute, and read by downstream units.
type outlook struct {
	obstacle *obstacle
	moving   bool   // it is not at rest
	upToDate bool   // its newest good run has the newest code
	queued   bool   // it is in line for a job
	queuedAt Moment // since when
}

// display is what was shown of a unit; see standings.
type display struct {
	marks            []Mark
	place            int
	changed, unshown bool
	walked           int // the last of standings.walks that visited it
	standsFor        standing
	toldFreshness    Freshness
}

// movedSince reports whether the unit's newest run was moving at a time or later, and may have read what was there
// then.
func (u *unit) movedSince(at Moment) bool {
	switch {
	case u.run == nil:
		return false
	case !u.live():
		return u.run.EndedAt.After(at)
	}
	return u.state.InMotion() || u.run.ReadyAt.After(at)
}

// makes records that a run may have written files until the wall clock showed a time.
func (u *unit) makes(until time.Time, from Moment) {
	if from != u.madeFrom {
		u.madeBefore = u.madeAt
	}
	u.madeAt, u.madeFrom = until, from
}

// stirring reports whether files that affect the unit are being written.
func (u *unit) stirring() bool { return len(u.touches) > 0 }

// touch is a burst of writes that has not settled.
type touch struct {
	burst       int
	first, last revision
	calm        bool      // the unit was at rest all the time
	made        time.Time // the last time before the write at which a run may have made something; see unit.madeAt
	latest      time.Time // the latest time of the wall clock when it began
	since       time.Time // on the wall clock: the earliest time of the first write
	during      *run      // the run at that time, of a unit that compares file times
}

func (u *unit) isTouched(burst int) bool {
	return slices.ContainsFunc(u.touches, func(t touch) bool { return t.burst == burst })
}

// stir returns the unit's touch by a burst, a new one if there is none.
func (u *unit) stir(burst int) *touch {
	for i := range u.touches {
		if u.touches[i].burst == burst {
			return &u.touches[i]
		}
	}
	u.touches = append(u.touches, touch{burst: burst, calm: true})
	return &u.touches[len(u.touches)-1]
}

// rest ends the unit's touch by a burst and returns it. News is false if there is none: the burst has settled before.
func (u *unit) rest(burst int) (t touch, news bool) {
	const remembered = 32
	if u.hasRested(burst) {
		return touch{}, false
	}
	if u.rested = append(u.rested, burst); len(u.rested) > remembered {
		u.rested = u.rested[1:]
	}
	i := slices.IndexFunc(u.touches, func(t touch) bool { return t.burst == burst })
	if i < 0 {
		return touch{}, false
	}
	t = u.touches[i]
	u.touches = slices.Delete(u.touches, i, i+1)
	return t, true
}

func (u *unit) hasRested(burst int) bool { return slices.Contains(u.rested, burst) }

// untouch treats the unit's touches that are gone as if they had never been, and the writes that it should have
// picked up, too.
func (u *unit) untouch(burst int) {
	u.passes.unread = slices.DeleteFunc(u.passes.unread, func(w write) bool { return w.burst == burst })
	u.touched = u.settled
	for _, t := range u.touches {
		u.touched = max(u.touched, t.last)
	}
}

// ends reports whether the unit is currently one whose runs are meant to end.
func (u *unit) ends() bool {
	return u.spec.Kind.Ends() && !(u.run != nil && u.run.serves && (u.live() || u.state == Crashed))
}

// onlyWhenAsked reports whether the unit runs only on request: a manual task or suite does not react to changes,
// either.
func (u *unit) onlyWhenAsked() bool { return u.spec.Manual && u.spec.Kind.Ends() }

// dropPending cancels the pending act. Its work stays owed.
func (u *unit) dropPending() {
	if u.pending != nil {
		u.owed.add(u.pending.asks)
		u.pending = nil
	}
}

// live reports whether a process of the unit may exist.
func (u *unit) live() bool { return u.run != nil && u.run.EndedAt.IsZero() }

// atWork reports whether the unit's run will change its state by itself.
func (u *unit) atWork() bool {
	return u.live() && (u.state.InMotion() || u.awaitsPass() || u.hasNews())
}

// lastRead is the newest revision that the newest run could have read.
func (u *unit) lastRead() revision {
	if u.run == nil {
		return 0
	}
	return u.run.read
}

// readAtStart is lastRead without what the run's passes have picked up since: they do not pick up what requires a new
// run.
func (u *unit) readAtStart() revision {
	if u.run == nil || u.spec.Pass == nil {
		return u.lastRead()
	}
	return u.run.atStart
}

// satisfied reports whether the units that need this one may start.
func (u *unit) satisfied() bool {
	return !u.moving && (u.state == Ready || u.state == Done)
}

// suspect records which files changed since the unit last ran well.
func (u *unit) suspect(hits []Hit) {
	const most = 20
	for _, h := range hits {
		if len(u.suspects) >= most {
			return
		}
		if !slices.Contains(u.suspects, h.Path) {
			u.suspects = append(u.suspects, h.Path)
		}
	}
}

// ending is why a live run is being stopped.
type ending uint8

const (
	byItself  ending = iota // it is not
	toAct                   // a new run follows
	byLimit                 // it has taken too long, and failed
	byRequest               // it stays stopped
)

// act is what a unit will do as soon as possible: run again.
type act struct {
	ripples []*Ripple
	reasons []Reason
	forced  bool        // requested by a user: acts even when paused or held by a followed unit
	cut     bool        // does not let a running task finish
	asks    pendingWork // what to run
	setup   bool        // with its setup steps
	once    bool        // with its own arguments instead of those added to the unit's command
	words   []string
	spans   []Span
	chain   chain  // that this would continue, if there is no other reason
	lookout Moment // until when to wait for other writers
}

// span ends the act's last span and begins another one, unless it is the same.
func (a *act) span(now Moment, s Span) {
	if n := len(a.spans); n > 0 {
		last := &a.spans[n-1]
		if last.Phase == s.Phase && last.On == s.On {
			return
		}
		last.To = now
	}
	if s.From.IsZero() {
		s.From = now
	}
	a.spans = append(a.spans, s)
}

// obstacle is why a unit with a pending act does not act.
type obstacle struct {
	on      *unit // the other unit, or nil
	lookout bool
	job     bool // all jobs are taken
	settles bool // its files are being written
	final   bool // it will not pass by itself
}

// Mark is a point in a unit's life: the state from At on.
type Mark struct {
	At    Moment
	State State
	Stale bool
	Run   int
}
