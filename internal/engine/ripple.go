package engine

import (
	"slices"
	"time"
)

// CauseKind is what opened a ripple.
type CauseKind uint8

const (
	CauseStart    CauseKind = iota // the project's start
	CauseChange                    // files
	CauseRequest                   // a user
	CauseCrash                     // a process exited without a request
	CauseSettings                  // an edit of the settings
	CauseRelease                   // what held a unit up is over
	CausePass                      // a service picked up a change that no event reported
)

func (k CauseKind) String() string {
	return [...]string{"start", "change", "request", "crash", "settings", "release", "pass"}[k]
}

// Cause is what opened a ripple. For changes, the ripple's paths tell more.
type Cause struct {
	Kind   CauseKind
	Unit   string
	Reason Reason
}

// Outcome is the project's state when a ripple came to rest.
type Outcome uint8

const (
	Open Outcome = iota // it is not at rest
	EndedCurrent
	EndedStale
	EndedBroken
)

func (o Outcome) String() string {
	return [...]string{"open", "current", "stale", "broken"}[o]
}

// Ripple is a cause and every run that it caused, until all are at rest. A ripple at rest never changes again.
type Ripple struct {
	ID        int
	Cause     Cause
	Since     Moment // the first file event, or the time of the cause
	OpenedAt  Moment
	RestAt    Moment   // zero while open
	Paths     []string // the first hundred
	Files     int      // the number of all paths
	Concerned []Concern
	Runs      []*RunRef
	MoreRuns  int   // how many runs came after those
	TookOver  []int // earlier ripples whose work a run of this one did, too
	TakenBy   []int // later ripples that did work of this one
	Outcome   Outcome
	Troubles  []Trouble // why the outcome is not current

	openRipple
}

// openRipple is what is known only of an open ripple.
type openRipple struct {
	burst   int
	saved   bool            // it counts as a save
	made    bool            // it is about outputs of units
	seen    map[string]bool // all paths
	members []*unit
	runs    []*run  // one for each of Runs; nil for a pass
	shown   *Ripple // the copy for faces; nil: outdated
}

// Concern is a unit that a change affects, and the pattern that matched.
type Concern struct{ Unit, Rule string }

// RunRef is a run, or a pass of one, with its duration when it is ready or over.
type RunRef struct {
	Unit    string
	Number  int
	Pass    int      // 0: the run itself
	Reasons []Reason // why the run was ordered; none for a pass, which is not ordered
	Took    time.Duration
	Failed  bool   // it failed, or was not ready in time
	Spans   []Span // how the time was spent until then, or until the ripple came to rest; nil: no longer known
}

// Resting reports whether everything that the ripple caused has ended.
func (r *Ripple) Resting() bool { return !r.RestAt.IsZero() }

// Opening returns the reason that opened the ripple.
func (r *Ripple) Opening() Reason {
	if r.Cause.Kind == CauseChange {
		return Reason{Kind: ReasonFiles, Files: r.Paths[:min(len(r.Paths), maxReasonFiles)], Count: r.Files}
	}
	return r.Cause.Reason
}

func (r *Ripple) take(u *unit) {
	if !slices.Contains(r.members, u) {
		r.members = append(r.members, u)
	}
}

// credit adds an ended pass to the ripple that caused it.
func (r *Ripple) credit(u *unit, p *pass) {
	known := func(ref *RunRef) bool {
		return ref.Unit == u.spec.Name && ref.Number == u.run.Number && ref.Pass == p.Number
	}
	if !r.Resting() && !slices.ContainsFunc(r.Runs, known) {
		r.addRun(nil, RunRef{Unit: u.spec.Name, Number: u.run.Number, Pass: p.Number, Took: p.took(), Failed: !p.Good,
			Spans: []Span{{Phase: PhaseRunning, From: p.BeganAt, To: p.EndedAt}}})
	}
}

// maxRuns limits the runs and passes of one ripple that are distinguished.
const maxRuns = 500

func (r *Ripple) addRun(of *run, ref RunRef) {
	r.shown = nil
	if len(r.Runs) < maxRuns {
		r.Runs, r.runs = append(r.Runs, &ref), append(r.runs, of)
	} else {
		r.MoreRuns++
	}
}

// account updates the entry of one of the ripple's runs. Faces have the old entry.
func (r *Ripple) account(i int, now Moment) {
	ref := *r.Runs[i]
	ref.Took, ref.Spans, ref.Failed = r.runs[i].took(now), slices.Clone(r.runs[i].Spans), r.runs[i].failed
	r.Runs[i], r.shown = &ref, nil
}

// spans is how many spans the ripple keeps.
func (r *Ripple) spans() int {
	n := 0
	for _, ref := range r.Runs {
		n += len(ref.Spans)
	}
	return n
}

func (r *Ripple) concern(unit, rule string) {
	r.shown = nil
	for _, c := range r.Concerned {
		if c.Unit == unit {
			return
		}
	}
	r.Concerned = append(r.Concerned, Concern{unit, rule})
}

func (r *Ripple) addPaths(hits []Hit, files int) {
	const most = 100
	r.shown = nil
	if r.seen == nil {
		r.seen = map[string]bool{}
	}
	for _, h := range hits {
		if r.seen[h.Path] {
			continue
		}
		r.seen[h.Path] = true
		if r.Files++; len(r.Paths) < most {
			r.Paths = append(r.Paths, h.Path)
		}
	}
	if slices.ContainsFunc(hits, func(h Hit) bool { return h.More > 0 }) {
		r.Files = max(r.Files, files)
	}
}

// show returns a copy that does not change with r.
func (r *Ripple) show() *Ripple {
	if r.shown == nil {
		c := *r
		c.Paths, c.Concerned = slices.Clone(r.Paths), slices.Clone(r.Concerned)
		c.Runs, c.TookOver, c.TakenBy = slices.Clone(r.Runs), slices.Clone(r.TookOver), slices.Clone(r.TakenBy)
		c.members, c.seen, c.runs = nil, nil, nil
		r.shown = &c
	}
	return r.shown
}

// shown returns all ripples for faces.
func (l *ledger) shown() []*Ripple {
	all := slices.Clone(l.all)
	for _, r := range l.live {
		if i := len(all) - 1 - (l.lastID - r.ID); i >= 0 {
			all[i] = r.show()
		}
	}
	return all
}

// account updates the entry of a run in all open ripples.
func (l *ledger) account(rn *run, now Moment) {
	for _, r := range rn.ripples {
		if i := slices.Index(r.runs, rn); i >= 0 && !r.Resting() {
			r.account(i, now)
		}
	}
}

// ledger holds the session's ripples, oldest first.
type ledger struct {
	all     []*Ripple
	live    []*Ripple // those that are not at rest
	opened  []*Ripple // opened in this step
	kept    []*Ripple // those at rest that keep their spans, oldest first
	spans   int       // the number of their spans
	lastID  int
	broken  int     // the number of ripples that ended broken, including dropped ones
	longest *Ripple // the longest one of a save, of those at rest
}

// keptRipples limits the ripples that an engine keeps, and keptSpans the spans of all ripples at rest; the newest are
// kept.
const (
	keptRipples = 300
	keptSpans   = 20_000
)

func (l *ledger) open(now Moment, c Cause) *Ripple {
	l.lastID++
	r := &Ripple{ID: l.lastID, Cause: c, Since: now, OpenedAt: now}
	l.all = append(l.all, r)
	if n := len(l.all) - keptRipples; n > 0 {
		l.all = l.all[n:] // appending moves them now and then, which frees the others
	}
	l.live = append(l.live, r)
	l.opened = append(l.opened, r)
	return r
}

// keepSpans records that a ripple has come to rest with its spans, and drops the spans of the oldest ones if there
// are too many.
func (l *ledger) keepSpans(r *Ripple) {
	l.kept = append(l.kept, r)
	l.spans += r.spans()
	for ; len(l.kept) > 1 && (l.spans > keptSpans || l.kept[0].ID < l.all[0].ID); l.kept = l.kept[1:] {
		old := l.kept[0]
		l.spans -= old.spans()
		i := slices.Index(l.all, old)
		if i < 0 {
			continue
		}
		c := *old // snapshots share the old one
		c.Runs = slices.Clone(old.Runs)
		for n, ref := range c.Runs {
			without := *ref
			without.Spans = nil
			c.Runs[n] = &without
		}
		l.all[i] = &c
	}
}

// ofBurst returns the open ripple of a burst of file events, or nil.
func (l *ledger) ofBurst(burst int) *Ripple {
	for _, r := range l.live {
		if r.Cause.Kind == CauseChange && r.burst == burst {
			return r
		}
	}
	return nil
}

// latestOfBurst returns the newest ripple of a burst, at rest or not, or nil.
func (l *ledger) latestOfBurst(burst int) *Ripple {
	const recent = 20
	for i := len(l.all) - 1; i >= max(len(l.all)-recent, 0); i-- {
		if r := l.all[i]; r.Cause.Kind == CauseChange && r.burst == burst {
			return r
		}
	}
	return nil
}

// attribute adds a run to all ripples that wanted it. The newest one took over the work of the others.
func (l *ledger) attribute(u *unit, rn *run, a *act) {
	for _, r := range a.ripples {
		if r.Resting() {
			continue
		}
		rn.ripples = append(rn.ripples, r)
		rn.Ripples = append(rn.Ripples, r.ID)
		r.addRun(rn, RunRef{Unit: u.spec.Name, Number: rn.Number, Reasons: rn.Reasons})
	}
	newest := rn.ripples[len(rn.ripples)-1]
	for _, r := range rn.ripples[:len(rn.ripples)-1] {
		if !slices.Contains(r.TakenBy, newest.ID) {
			r.TakenBy = append(r.TakenBy, newest.ID)
			newest.TookOver = append(newest.TookOver, r.ID)
			r.shown, newest.shown = nil, nil
		}
	}
}

// announce reports new ripples.
func (l *ledger) announce(e *Engine) {
	for _, r := range l.opened {
		e.tell(Fact{Kind: FactRippleOpened, Ripple: r.ID, Reasons: []Reason{r.Opening()}})
	}
	l.opened = nil
}

// settle closes the ripples that have come to rest.
func (l *ledger) settle(e *Engine) {
	l.announce(e)
	live := l.live[:0]
	for _, r := range l.live {
		if r.moving() {
			live = append(live, r)
		} else {
			e.rest(r)
		}
	}
	clear(l.live[len(live):])
	l.live = live
}

func (r *Ripple) moving() bool {
	for _, u := range r.members {
		if u.pending != nil && u.moving && slices.Contains(u.pending.ripples, r) {
			return true
		}
		if u.atWork() && slices.Contains(u.run.ripples, r) {
			return true
		}
	}
	return false
}

// rest closes a ripple and determines its outcome.
func (e *Engine) rest(r *Ripple) {
	r.RestAt = e.now
	for i, rn := range r.runs {
		if rn != nil {
			r.account(i, e.now)
		}
	}
	e.ripples.keepSpans(r)
	if r.Cause.Kind == CauseStart {
		e.startedIn = r.RestAt.Sub(r.OpenedAt)
	}
	r.judge()
	e.ripples.count(r)
	f := Fact{Kind: FactRippleRested, Ripple: r.ID, Outcome: r.Outcome, Took: r.RestAt.Sub(r.Since)}
	f.Over.Ripple = r
	e.tell(f)
	r.members, r.seen, r.runs, r.shown = nil, nil, nil, nil
}

// count adds a ripple's outcome to the totals.
func (l *ledger) count(r *Ripple) {
	if r.Outcome == EndedBroken {
		l.broken++
	}
	if r.Cause.Kind == CauseChange &&
		(l.longest == nil || r.RestAt.Sub(r.Since) > l.longest.RestAt.Sub(l.longest.Since)) {
		l.longest = r
	}
}

// judge finds the problems of the units that the ripple moved and of all that build on them.
func (r *Ripple) judge() {
	var stale, broken []Trouble
	seen := map[*unit]bool{}
	var look func(u *unit)
	look = func(u *unit) {
		if seen[u] {
			return
		}
		seen[u] = true
		if u.state.Broken() {
			broken = append(broken, Trouble{Unit: u.spec.Name, Failure: u.failure()})
		} else if f := r.lastFailure(u); f != nil {
			broken = append(broken, Trouble{Unit: u.spec.Name, Failure: f})
		} else if u.wanted && u.freshness() == Stale {
			block := u.staleness().Block
			stale = append(stale, Trouble{Unit: u.spec.Name, Block: &block, Ran: true})
		} else if r.neverRan(u) {
			block := u.block()
			stale = append(stale, Trouble{Unit: u.spec.Name, Block: &block})
		}
		for _, f := range u.followers {
			look(f)
		}
	}
	for _, u := range r.members {
		look(u)
	}
	switch {
	case len(broken) > 0:
		r.Outcome, r.Troubles = EndedBroken, append(broken, stale...)
	case len(stale) > 0:
		r.Outcome, r.Troubles = EndedStale, stale
	default:
		r.Outcome = EndedCurrent
	}
}

// lastFailure returns how the ripple's last run of a unit has failed, if the unit already works on a later ripple, so
// that its state no longer tells; nil otherwise.
func (r *Ripple) lastFailure(u *unit) *Failure {
	if !u.atWork() && u.pending == nil {
		return nil
	}
	for i, ref := range slices.Backward(r.Runs) {
		if ref.Unit == u.spec.Name && r.runs[i] != nil {
			return r.runs[i].failure
		}
	}
	return nil
}

// neverRan reports whether the ripple should have moved a unit that has not run for it, and will not.
func (r *Ripple) neverRan(u *unit) bool {
	return !u.wanted && !u.removed && slices.Contains(r.members, u) && (u.run == nil || u.touched > u.lastRead()) &&
		u.touched > 0
}

// soonAfter is how long after a service was ready a crash counts as a result of what made it start: most servers that
// cannot work with what they find report it within this time.
const soonAfter = 5 * time.Second

// amend makes a ripple at rest a broken one, because a run of it crashed soon after it was ready. It reports whether
// there is such a ripple.
func (e *Engine) amend(u *unit, after time.Duration) bool {
	l := &e.ripples
	i := slices.IndexFunc(l.all, func(r *Ripple) bool { return r.ID == u.run.newestRipple() })
	if i < 0 || !l.all[i].Resting() {
		return i >= 0
	}
	old := l.all[i]
	c := *old // snapshots share the old one
	c.Outcome, c.Troubles = EndedBroken, []Trouble{{Unit: u.spec.Name, Failure: u.failure(), Crashed: after}}
	if old.Outcome != EndedBroken {
		l.broken++
	}
	if l.longest == old {
		l.longest = &c
	}
	l.all[i] = &c
	if k := slices.Index(l.kept, old); k >= 0 {
		l.kept[k] = &c
	}
	if e.newest == old {
		e.newest = &c
	}
	for k, r := range u.run.ripples {
		if r == old {
			u.run.ripples[k] = &c
		}
	}
	e.tell(
		Fact{
			Kind:    FactRippleRested,
			Ripple:  c.ID,
			Outcome: c.Outcome,
			Took:    c.RestAt.Sub(c.Since),
			Over:    Over{Ripple: &c},
		},
	)
	return true
}

// took is how long a run needed until it was ready or over.
func (r *run) took(now Moment) time.Duration {
	switch {
	case !r.ReadyAt.IsZero():
		return r.ReadyAt.Sub(r.OrderedAt)
	case !r.EndedAt.IsZero():
		return r.EndedAt.Sub(r.OrderedAt)
	}
	return now.Sub(r.OrderedAt)
}
