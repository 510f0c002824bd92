package engine

import (
	"slices"
	"time"

	"omnivigil/internal/plan"
)

// State is what a unit is doing, one word each.
type State uint8

const (
	Idle     State = iota // never asked to run
	Waiting               // wants to run, on a need
	Setup                 // heavy steps before the first run
	Starting              // a service on its way to ready
	Ready                 // a service that does its work
	Running               // a task or suite at work
	Stopping              // told to end
	Done                  // a task or suite that ended well
	Failed                // one that did not, or a service that was not ready in time
	Crashed               // a service that ended by itself
	Stopped               // by request
)

var stateNames = [...]string{"idle", "waiting", "setup", "starting", "ready", "running",
	"stopping", "done", "failed", "crashed", "stopped"}

func (s State) String() string { return stateNames[s] }

// InMotion reports whether a unit in this state is on its way to another by itself.
func (s State) InMotion() bool {
	return s == Setup || s == Starting || s == Running || s == Stopping
}

// Broken reports whether a unit in this state needs the user's eye.
func (s State) Broken() bool { return s == Failed || s == Crashed }

// unit is the engine's knowledge of one supervised unit. Its parts stand below, each with what belongs together.
type unit struct {
	spec *plan.Unit
	links
	wishes

	state   State
	run     *run // the newest, live or ended; nil before the first
	pending *act // what it will do as soon as it can
	ending  ending
	deaths  int // in a row, without a good stretch between
	retryAt Moment
	report  Report // what is known of its cases and findings
	passes  passes // of its newest run, if that picks up changes by itself
	news    bool   // its newest good pass has not been handed on to those downstream
	removed bool   // from the settings; it goes once it has ended

	inputs
	selfMade
	products
	outlook
	display
}

// newUnit returns a unit that has not run yet.
func newUnit(spec *plan.Unit) *unit {
	return &unit{spec: spec, inputs: inputs{owed: pendingWork{whole: true}}}
}

// links are a unit's place among the others.
type links struct {
	rank       int     // position among units ordered by needs and follows
	needs      []*unit // must be ready or done before this starts
	follows    []*unit // this acts again when one of them has finished again
	followers  []*unit // the other direction of follows
	downstream []*unit // of needs and follows together
}

// wishes are what the user wants of a unit.
type wishes struct {
	wanted bool     // that it runs
	paused bool     // that it is left as it is
	words  []string // that are added to its command
	// narrowed says to which cases it is narrowed; empty: to none. These words do it.
	narrowed    string
	narrowWords []string
}

// inputs are what concerns a unit, and what of it its newest good run (ready or done) could have seen.
type inputs struct {
	touched     revision // newest writing that concerns it
	settled     revision // newest of those that will not be taken back
	touches     []touch  // those that have not come to rest, by burst
	rested      []int    // the newest bursts that have come to rest
	staleSince  Moment
	suspects    []string // files that changed since the last good run
	generation  int      // how many good runs there were
	goodRead    revision
	goodBuiltOn map[string]int // generation of each of follows
	owed        pendingWork    // what has to run before it is current again
}

// selfMade are files that a unit, or others in a loop with it, may write themselves.
type selfMade struct {
	writings      []*writing // the newest that concern it
	loop          *Loop      // that it was in, nil for none
	results       []string   // files that its passes seem to write, and which it did not take up
	missedResults int        // how often, in a row
}

// products are what a unit's runs have made, as far as file times tell, and what is in doubt about it.
type products struct {
	madeFrom   Moment        // when the process of its newest run began that may have written files
	madeAt     time.Time     // the latest that the wall clock had shown when that run may have written files
	madeBefore time.Time     // madeAt of the run before that
	lasted     time.Duration // its newest good run, until it was ready or over
	doubts     []Doubt
	saved      []saves  // while runs were at work about which that leaves a doubt
	gone       []string // outputs that are missing
}

// outlook is computed by settle and recompute, and read by those downstream.
type outlook struct {
	obstacle *obstacle
	moving   bool   // will be at rest only later
	upToDate bool   // its newest good run holds the newest code
	queued   bool   // is in line for a job
	queuedAt Moment // when it began to
}

// display is what was shown of a unit; see standings.
type display struct {
	marks            []Mark
	place            int
	changed, unshown bool
	walked           int // the newest of standings.walks that has come by
	standsFor        standing
	toldFreshness    Freshness
}

// movedSince reports whether the unit's newest run was on its way at that moment or later, and may have read what was
// there then.
func (u *unit) movedSince(at Moment) bool {
	switch {
	case u.run == nil:
		return false
	case !u.live():
		return u.run.EndedAt.After(at)
	}
	return u.state.InMotion() || u.run.ReadyAt.After(at)
}

// makes notes that a run may have written files until the wall clock showed that time.
func (u *unit) makes(until time.Time, from Moment) {
	if from != u.madeFrom {
		u.madeBefore = u.madeAt
	}
	u.madeAt, u.madeFrom = until, from
}

// stirring reports whether files that concern the unit are still being written.
func (u *unit) stirring() bool { return len(u.touches) > 0 }

// touch is a burst of writing that has not come to rest.
type touch struct {
	burst       int
	first, last revision
	calm        bool      // the unit was at rest all the while
	made        time.Time // when a run may have made something last, before files were written; see unit.madeAt
	latest      time.Time // that the wall clock had shown when it began
	since       time.Time // on the wall clock: when the first of it may have been done
	during      *run      // that was at work meanwhile, of a unit that compares file times
}

func (u *unit) isTouched(burst int) bool {
	return slices.ContainsFunc(u.touches, func(t touch) bool { return t.burst == burst })
}

// stir returns the unit's touch of a burst, a new one if there is none yet.
func (u *unit) stir(burst int) *touch {
	for i := range u.touches {
		if u.touches[i].burst == burst {
			return &u.touches[i]
		}
	}
	u.touches = append(u.touches, touch{burst: burst, calm: true})
	return &u.touches[len(u.touches)-1]
}

// rest ends the unit's touch by a burst and returns it. News is false where there
// is none: the burst has come to rest before.
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

// untouch makes the unit's touches that have gone ones that never were, and with them all
// that it was to take up of the burst.
func (u *unit) untouch(burst int) {
	u.passes.unread = slices.DeleteFunc(u.passes.unread, func(w write) bool { return w.burst == burst })
	u.touched = u.settled
	for _, t := range u.touches {
		u.touched = max(u.touched, t.last)
	}
}

// ends reports whether the unit is at the moment one whose runs are meant to come to an end.
func (u *unit) ends() bool {
	return u.spec.Kind.Ends() && !(u.run != nil && u.run.serves && (u.live() || u.state == Crashed))
}

// onlyWhenAsked reports whether the unit runs by request alone: a task or suite that
// is not started by itself does not react to changes either.
func (u *unit) onlyWhenAsked() bool { return u.spec.Manual && u.spec.Kind.Ends() }

// dropPending cancels what the unit would do. It stays owed.
func (u *unit) dropPending() {
	if u.pending != nil {
		u.owed.add(u.pending.asks)
		u.pending = nil
	}
}

// live reports whether a process of the unit may exist.
func (u *unit) live() bool { return u.run != nil && u.run.EndedAt.IsZero() }

// atWork reports whether the unit's run is on its way to another state by itself.
func (u *unit) atWork() bool {
	return u.live() && (u.state.InMotion() || u.awaitsPass() || u.hasNews())
}

// lastRead is the newest revision that the newest run could have seen.
func (u *unit) lastRead() revision {
	if u.run == nil {
		return 0
	}
	return u.run.read
}

// readAtStart is lastRead without what the run's passes have taken up since: they do not
// take up what calls for a new run.
func (u *unit) readAtStart() revision {
	if u.run == nil || u.spec.Pass == nil {
		return u.lastRead()
	}
	return u.run.atStart
}

// satisfied reports whether those that need the unit may start.
func (u *unit) satisfied() bool {
	return !u.moving && (u.state == Ready || u.state == Done)
}

// suspect remembers which files changed since the unit last ran well.
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

// ending says why a live run is being stopped.
type ending uint8

const (
	byItself  ending = iota // it is not
	toAct                   // a new run follows
	byRequest               // it is to stay stopped
)

// act is what a unit will do as soon as it can: run again.
type act struct {
	ripples []*Ripple
	reasons []Reason
	forced  bool        // asked for by a user: acts even when paused or held by a follow
	cut     bool        // does not let a task at work finish
	asks    pendingWork // what is to be run
	setup   bool        // its setup is to be done again
	once    bool        // with its own words instead of those that were added to the unit's command
	words   []string
	spans   []Span
	chain   chain  // that this would continue, if nothing else makes it act
	lookout Moment // until when other writers are looked for
}

// span ends the act's last span at now and opens another, unless it is the same.
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

// obstacle says why a unit with a pending act does not act.
type obstacle struct {
	on      *unit // nil for the others
	lookout bool
	job     bool // all jobs are taken
	settles bool // its files are still being written
	final   bool // it will not pass by itself
}

// Mark is a point in a unit's life: from At on it was in this state.
type Mark struct {
	At    Moment
	State State
	Stale bool
	Run   int
}
