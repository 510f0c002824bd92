package simulate

import (
	"fmt"
	"maps"
	"slices"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// Checker watches a world and holds it to the rules:
//
//  1. never two live runs of one unit;
//  2. no unit starts while a need is not ready or done;
//  3. a ripple runs each unit at most once, unless a later change, a request or
//     a crash concerns it;
//  4. when all is at rest, every unit whose chain did not fail is current;
//  5. stale is never shown as current;
//  6. no request and no change is ever lost;
//  7. every order is answered or timed out; nothing waits for ever;
//  8. units that set themselves or each other off are noticed by the third time, and none
//     ignores what is in no such loop;
//  9. the verdict is CURRENT if and only if some unit is wanted, every wanted unit is
//     current and at rest, and the saved settings are in use; each other word has its
//     reason;
//  10. never more tasks, suites and setup steps at once than there are jobs, and none
//     beside one that runs alone;
//
// 11. a result is not reused when a person wants it run.
type Checker struct {
	Broken []string // the rules that were broken, with what was seen

	world *World
	plan  *plan.Plan
	units map[string]*books
	gone  map[string]*books      // of units that left the settings
	moves map[int]map[string]int // per ripple and unit: runs
	after map[int]map[string]int // per ripple and unit: reasons for another run

	settingsTouched, settingsRead int  // bursts of writing to the settings
	settingsBroken                bool // the newest that was read cannot be used
	quitting                      bool
	loops                         loops
}

// books are what the checker itself knows of a unit.
type books struct {
	spec      *plan.Unit
	live      int // the run that was ordered and is not over; 0 for none
	newest    int // the newest that was ordered
	ready     bool
	lived     int             // the newest run that was ready by having lived long enough
	signalled bool            // the live run was told to end
	done      bool            // its newest run ended well
	told      writings        // that the engine has heard of
	read      writings        // of those, what the newest run could read
	goodRead  writings        // and what the newest good run could
	undone    map[int]bool    // bursts that left everything as it was
	void      map[int]bool    // bursts that do not count
	edits     int             // of its settings
	ignored   map[string]bool // files of loops that do not count
	good      int             // number of good runs
	upGood    map[string]int
	goodUp    map[string]int // of what it follows, as the newest good run found it
	wanted    bool
	paused    bool
	must      int  // a run of at least this number is owed to a request
	asked     bool // its newest run is one

	// Commands of reactions, or "" for the whole, that have to end well before it
	// is current again; those that the live run can pay, and which one it runs.
	owed    map[string]bool
	payable []string
	command string
	job     bool // its live run is a task's or suite's, or in a step of its setup
	heavy   bool // the step that was told is one of the setup

	// Of a unit that takes up changes by itself.
	really writings         // that were done, heard of or not
	passes map[int]writings // of them, what each pass could read
	deaf   bool             // it takes up nothing, also not that a file is again as it was
}

func newBooks(spec *plan.Unit) *books {
	return &books{spec: spec, owed: map[string]bool{"": true}, upGood: map[string]int{}, goodUp: map[string]int{},
		told: writings{}, really: writings{}, passes: map[int]writings{}, undone: map[int]bool{}, void: map[int]bool{}}
}

// writings are how often files were written in each burst. An edit of the settings
// is a writing with a negative number.
type writings map[int]int

// behind returns how many bursts a run that could read these has not read as they
// are now.
func (b *books) behind(read writings) int {
	n := 0
	for burst, times := range b.told {
		if heard := read[burst]; heard != times && !b.void[burst] && !(b.undone[burst] && (heard == 0 || b.deaf)) {
			n++
		}
	}
	return n
}

// hasNews reports whether the newest pass of a unit in a loop has read anything but what is
// ignored.
func (b *books) hasNews() bool {
	if len(b.ignored) == 0 {
		return true
	}
	for burst := range b.told {
		if b.read[burst] != b.goodRead[burst] && !b.void[burst] {
			return true
		}
	}
	return false
}

// Watch returns a checker that watches the world from its first step on.
func Watch(w *World) *Checker {
	c := &Checker{world: w, plan: w.Plan, units: map[string]*books{}, gone: map[string]*books{},
		moves: map[int]map[string]int{}, after: map[int]map[string]int{}, loops: newLoops()}
	for _, u := range w.Plan.Units {
		c.units[u.Name] = newBooks(u)
	}
	w.Before, w.After, w.Spawned = c.before, c.afterStep, c.spawned
	w.Wrote, w.PassBegins, w.Made = c.wrote, c.passBegins, c.madeBy
	return c
}

func (c *Checker) broke(rule int, format string, args ...any) {
	const most = 20
	if len(c.Broken) >= most {
		return
	}
	c.Broken = append(c.Broken, fmt.Sprintf("rule %d, step %d, %s: ", rule, c.world.Steps, c.world.Now.Format("15:04:05.000"))+
		fmt.Sprintf(format, args...))
}

// before enters what the engine is about to hear.
func (c *Checker) before(ev engine.Event) {
	switch ev := ev.(type) {
	case engine.Begin:
		for _, u := range c.plan.Units {
			c.units[u.Name].wanted = !u.Manual
		}
	case engine.Touched:
		for _, name := range ev.Units {
			if b := c.units[name]; b != nil && !c.world.doubled {
				b.told[ev.Burst]++
				c.excuse(name)
				if !c.world.makes[ev.Burst] {
					c.savedFor(name)
				}
			}
		}
	case engine.PassBegan:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.ready = false
			c.excuse(ev.Unit)
		}
	case engine.PassEnded:
		if b := c.of(ev.Unit); b.live == ev.Run && ev.Good && !b.signalled && !c.world.doubled {
			b.read = b.passes[c.world.ending]
			before, news := b.good, b.hasNews()
			if c.succeed(ev.Unit); !news && before > 0 {
				b.good = before // what is ignored was taken up
			}
		}
	case engine.SettingsTouched:
		c.settingsTouched = max(c.settingsTouched, ev.Burst)
	case engine.PlanBroken:
		c.settingsRead, c.settingsBroken = max(c.settingsRead, ev.Burst), true
	case engine.Change:
		for _, h := range ev.Hits {
			b := c.units[h.Unit]
			if b == nil {
				continue // it went with the settings
			}
			if b.told[ev.Burst] == 0 { // its Touched was lost
				b.told[ev.Burst]++
			}
			c.excuse(h.Unit)
		}
	case engine.Unchanged:
		for _, name := range ev.Units {
			if b := c.units[name]; b != nil {
				b.undone[ev.Burst] = true
				c.excuse(name)
			}
		}
	case engine.SettingUp:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.heavy = ev.Heavy
		}
	case engine.Spawned:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.job = b.spec.Kind.Ends()
		}
	case engine.Reused:
		c.reused(ev)
	case engine.NotSpawned:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.live = 0
			c.excuse(ev.Unit)
		}
	case engine.Exited:
		c.exited(ev)
	case engine.BecameReady:
		if b := c.of(ev.Unit); b.live == ev.Run && !b.ready && !b.signalled && b.spec.Ready.Probed() && b.spec.Pass == nil {
			c.succeed(ev.Unit)
		}
	case engine.Requested:
		c.requested(ev)
	case engine.NewPlan:
		if c.settingsRead, c.settingsBroken = max(c.settingsRead, ev.Burst), false; !c.quitting {
			c.newPlan(ev.Plan)
		}
	}
}

// owe notes what a hit asks for. Those that are dealt with by a signal ask for
// no run.
func (b *books) owe(h engine.Hit) {
	key := ""
	if h.TakenUp {
		return
	}
	if h.Reaction > 0 && h.Reaction <= len(b.spec.Reactions) {
		re := b.spec.Reactions[h.Reaction-1]
		if re.Do == plan.SendSignal {
			return
		}
		if re.Run != nil {
			key = re.Run.With(h.Captures).String()
		}
	}
	if b.behind(b.read) > 0 || b.command != "" && b.command != key {
		b.owed[key] = true // else its run was ordered after the writing and does it
	}
}

// newPlan enters an edit of the settings.
func (c *Checker) newPlan(p *plan.Plan) {
	d := plan.Compare(c.plan, p)
	for _, name := range d.Removed {
		c.units[name].wanted, c.units[name].must = false, 0
		c.gone[name] = c.units[name]
		delete(c.units, name)
	}
	for _, u := range p.Units {
		if c.units[u.Name] == nil {
			c.units[u.Name] = newBooks(u)
			if back := c.gone[u.Name]; back != nil && back.live != 0 {
				c.units[u.Name] = back
				delete(c.gone, u.Name)
			}
			c.units[u.Name].wanted = !u.Manual
		}
		b := c.units[u.Name]
		for _, f := range u.Follows {
			if !slices.Contains(b.spec.Follows, f) && c.units[f] != nil {
				b.upGood[f], b.goodUp[f] = c.units[f].good, c.units[f].good
			}
		}
		b.spec = u
	}
	c.plan = p
	for _, name := range slices.Concat(d.Changed, d.Added, d.Adjusted) {
		c.excuse(name) // also whoever follows somebody new in the midst of a ripple
	}
	for _, name := range d.Changed {
		b := c.units[name]
		c.loops.pardoned[name] = true
		b.edits++
		b.told[-b.edits] = 1
		b.owed[""] = true
		if b.wanted {
			b.must = b.newest + 1
		}
	}
}

// excuse allows one more run of the unit, and of all that follow it, to every
// ripple that is open.
func (c *Checker) excuse(name string) {
	for id := range c.moves {
		if c.after[id] == nil {
			c.after[id] = map[string]int{}
		}
		for _, u := range c.plan.Units {
			if u.Name == name || c.follows(u, name) {
				c.after[id][u.Name]++
			}
		}
	}
}

func (c *Checker) follows(u *plan.Unit, name string) bool {
	for _, f := range u.Follows {
		if f == name || c.follows(c.plan.Unit(f), name) {
			return true
		}
	}
	return false
}

func (c *Checker) exited(ev engine.Exited) {
	b := c.of(ev.Unit)
	if b.live != ev.Run {
		return
	}
	if b.spec.Kind.Ends() && ev.Exit.OK() && !b.signalled {
		c.succeed(ev.Unit)
		if b.spec.Manual && b.must == 0 {
			b.wanted = false // until it is asked for again
		}
	}
	if !b.signalled && (!b.spec.Kind.Ends() || !ev.Exit.OK()) {
		c.excuse(ev.Unit) // it crashed or failed, and may be tried again
	}
	b.live, b.ready = 0, false
}

// reused enters that a task need not be run, since its last good result holds.
func (c *Checker) reused(ev engine.Reused) {
	b := c.of(ev.Unit)
	switch {
	case b.live != ev.Run || c.world.doubled:
		return
	case b.signalled:
		b.live, b.job = 0, false
		return
	}
	if b.asked {
		c.broke(11, "%s is reused although a person wants it run", ev.Unit)
	}
	c.spawned(ev.Unit, ev.Run)
	before := b.good
	c.succeed(ev.Unit)
	if before > 0 {
		b.good = before // it is the same result
	}
	if b.spec.Manual && b.must == 0 {
		b.wanted = false
	}
	b.live, b.ready, b.job = 0, false, false
}

// again begins a new session: the engine knows nothing any more.
func (c *Checker) again() {
	c.plan, c.units, c.gone = c.world.Plan, map[string]*books{}, map[string]*books{}
	for _, u := range c.plan.Units {
		c.units[u.Name] = newBooks(u)
	}
	c.moves, c.after, c.loops = map[int]map[string]int{}, map[int]map[string]int{}, newLoops()
	c.settingsTouched, c.settingsRead, c.settingsBroken, c.quitting = 0, 0, false, false
}

// succeed enters that the live run is a good one.
func (c *Checker) succeed(unit string) {
	b := c.of(unit)
	b.ready, b.done = !b.spec.Kind.Ends(), b.spec.Kind.Ends()
	b.good++
	b.goodRead, b.goodUp = b.read, b.upGood
	for _, key := range b.payable {
		if b.command == "" || b.command == key {
			delete(b.owed, key)
		}
	}
	b.payable = nil
	if b.command != "" && len(b.owed) > 0 {
		c.excuse(unit) // what is still owed is run now
	}
}

// of returns the books of a unit, also of one that has left the settings.
func (c *Checker) of(name string) *books {
	if b := c.units[name]; b != nil {
		return b
	}
	if b := c.gone[name]; b != nil {
		return b
	}
	return newBooks(&plan.Unit{Name: name})
}

func (c *Checker) requested(ev engine.Requested) {
	b := c.of(ev.Unit)
	switch ev.Request {
	case engine.StopUnit:
		b.wanted, b.must = false, 0
		c.excuse(ev.Unit) // who waited for it may go on without it
	case engine.StartUnit, engine.RestartUnit, engine.SetUpUnit:
		b.wanted = true
		c.wantNeeds(ev.Unit, map[string]bool{})
		c.excuse(ev.Unit)
		if ev.Request != engine.StartUnit {
			b.must = b.newest + 1
		}
	case engine.Quit, engine.QuitNow:
		c.quitting = true
	case engine.ReactAgain:
		c.savedFor(ev.Unit)
	case engine.PauseUnit:
		b.paused = true
	case engine.ResumeUnit:
		b.paused = false
	}
}

// wantNeeds has all that a unit needs run, but tasks by request alone that are done
// and current.
func (c *Checker) wantNeeds(name string, seen map[string]bool) {
	snap := c.world.Engine.Snapshot()
	for _, n := range c.plan.Unit(name).Needs {
		if seen[n] {
			continue
		}
		seen[n] = true
		if u := snap.Unit(n); u.State != engine.Done || u.Freshness != engine.Current {
			c.units[n].wanted = true
			c.excuse(n)
		}
		c.wantNeeds(n, seen)
	}
}

// spawned notes what a process can read: all that is written by now.
func (c *Checker) spawned(unit string, run int) {
	b := c.of(unit)
	b.read, b.payable = maps.Clone(b.told), slices.Sorted(maps.Keys(b.owed))
	b.upGood = map[string]int{}
	for _, f := range b.spec.Follows {
		b.upGood[f] = c.of(f).good
	}
}

func (c *Checker) wrote(unit string, burst int) { c.of(unit).really[burst]++ }

// passBegins notes what a pass can read: all that is written by now, and of the settings
// what its process has been started with.
func (c *Checker) passBegins(unit string, pass int) {
	b := c.of(unit)
	can := maps.Clone(b.really)
	for burst, times := range b.read {
		if burst < 0 {
			can[burst] = times
		}
	}
	b.passes[pass], b.deaf = can, c.world.isDeaf(unit)
}

func (c *Checker) afterStep(ev engine.Event, orders []engine.Order) {
	snap := c.world.Engine.Snapshot()
	for i := range snap.Units {
		// Readiness by having lived long enough is found by the engine itself.
		u := &snap.Units[i]
		b := c.of(u.Name)
		if !u.Run.ReadyAt.IsZero() && b.live == u.Run.Number && b.lived != u.Run.Number && !b.spec.Ready.Probed() && b.spec.Pass == nil {
			b.lived = u.Run.Number
			c.succeed(u.Name)
		}
	}
	for _, o := range orders {
		if o, ok := o.(engine.IgnoreFiles); ok {
			c.ignored(o)
		}
	}
	if change, ok := ev.(engine.Change); ok {
		c.changed(change)
	}
	for _, o := range orders {
		switch o := o.(type) {
		case engine.Start:
			c.started(o, snap)
		case engine.Proceed:
			if b := c.of(o.Unit); b.heavy && !b.job {
				b.job = true
				c.jobs(o.Unit)
			}
		case engine.StopRun:
			b := c.of(o.Unit)
			b.ready, b.signalled = false, true
		case engine.SendSignal:
			b := c.of(o.Unit)
			if b.paused || snap.Paused {
				c.broke(6, "%s is sent a signal although its reactions are paused", o.Unit)
			}
			if b.spec.Pass == nil {
				b.read, b.goodRead = maps.Clone(b.told), maps.Clone(b.told)
			}
		}
	}
	for i := range snap.Units {
		c.truth(&snap.Units[i])
	}
	c.verdict(snap)
}

// verdict checks the word of the verdict against who is wanted and how they are.
func (c *Checker) verdict(snap *engine.Snapshot) {
	wanted, current, moving, stale, broken, busy := 0, 0, 0, 0, 0, 0
	for i := range snap.Units {
		u := &snap.Units[i]
		isWanted := c.units[u.Name] != nil && c.units[u.Name].wanted
		switch {
		case u.Moving && !isWanted:
			busy++
		case u.Moving:
			moving++
		case u.State.Broken():
			broken++
		case isWanted && u.Freshness == engine.Current:
			current++
		case isWanted:
			stale++
		}
		if isWanted {
			wanted++
		}
	}
	unread := c.settingsTouched > c.settingsRead
	word, may := snap.Verdict.Word, []engine.VerdictWord{}
	switch {
	case c.world.Finished:
		may = append(may, engine.VerdictStopped)
	case c.quitting:
		may = append(may, engine.VerdictUpdating)
	case broken > 0 && stale > 0: // told as broken, or as the cause of what is stale
		may = []engine.VerdictWord{engine.VerdictBroken, engine.VerdictStale}
		if moving > 0 || unread {
			may[1] = engine.VerdictUpdating
		}
	case broken > 0:
		may = append(may, engine.VerdictBroken)
	case moving > 0 || unread || wanted == 0 && busy > 0 && !c.settingsBroken:
		may = append(may, engine.VerdictUpdating)
	case stale > 0 || c.settingsBroken:
		may = append(may, engine.VerdictStale)
	case wanted == 0:
		may = append(may, engine.VerdictStopped)
	case wanted == current:
		may = append(may, engine.VerdictCurrent)
	}
	if !slices.Contains(may, word) {
		c.broke(9, "%s %q with %d wanted, %d current, %d moving, %d stale, %d broken, settings unread %t", word, snap.Verdict.Text,
			wanted, current, moving, stale, broken, unread)
	}
}

// changed enters what files at rest ask for. What a unit writes itself asks for
// nothing once that is known.
func (c *Checker) changed(ev engine.Change) {
	for _, h := range ev.Hits {
		b := c.units[h.Unit]
		switch {
		case b == nil: // it went with the settings
		case c.countsAsNothing(b, h):
			b.void[ev.Burst] = b.void[ev.Burst] || !slices.ContainsFunc(ev.Hits, func(o engine.Hit) bool { return o.Unit == h.Unit && !c.countsAsNothing(b, o) })
		default:
			b.owe(h)
		}
	}
}

// countsAsNothing reports whether a hit's file is ignored, or its reaction could only fail, by
// the settings in use.
func (c *Checker) countsAsNothing(b *books, h engine.Hit) bool {
	return b.ignored[h.Path] || h.Missing != "" && h.Reaction <= len(b.spec.Reactions)
}

func (c *Checker) started(o engine.Start, snap *engine.Snapshot) {
	b := c.units[o.Unit]
	c.setOff(o.Unit, snap.Unit(o.Unit).Run.Because)
	if b.live != 0 {
		c.broke(1, "%s run %d starts while run %d lives", o.Unit, o.Run, b.live)
	}
	b.live, b.newest, b.ready, b.done, b.signalled = o.Run, o.Run, false, false, false
	if b.job, b.heavy = b.spec.Kind.Ends(), false; b.job {
		c.jobs(o.Unit)
	}
	b.payable, b.command = nil, ""
	if c := o.Command.String(); c != b.spec.Run.String() {
		b.command = c
	}
	b.owed[b.command] = true // until it has ended well
	if b.asked = b.must > 0 && o.Run >= b.must; b.asked {
		b.must = 0
	}
	for _, n := range b.spec.Needs {
		need := c.units[n]
		if need.spec.Kind.Ends() && (need.live != 0 || !need.done) || !need.spec.Kind.Ends() && !need.ready {
			c.broke(2, "%s starts while %s is %s", o.Unit, n, snap.Unit(n).State)
		}
	}
	ids := snap.Unit(o.Unit).Run.Ripples
	for _, id := range ids {
		if c.moves[id] == nil {
			c.moves[id] = map[string]int{}
		}
		if len(ids) > 1 {
			continue // another ripple has a reason for the run as well
		}
		c.moves[id][o.Unit]++
		if c.moves[id][o.Unit] > 1+c.after[id][o.Unit] {
			c.broke(3, "ripple %d runs %s %d times", id, o.Unit, c.moves[id][o.Unit])
		}
	}
}

// jobs checks that a unit may be at work beside those that are.
func (c *Checker) jobs(name string) {
	n, alone := 0, ""
	for _, all := range []map[string]*books{c.units, c.gone} {
		for other, b := range all {
			if b.live == 0 || !b.job {
				continue
			}
			if n++; b.spec.Alone {
				alone = other
			}
		}
	}
	if c.plan.Jobs > 0 && n > c.plan.Jobs {
		c.broke(10, "%s is at work as number %d of %d", name, n, c.plan.Jobs)
	}
	if alone != "" && n > 1 {
		c.broke(10, "%s is at work beside %s, which runs alone", name, alone)
	}
}

// truth checks that what is shown as current has read all that was written.
func (c *Checker) truth(u *engine.Unit) {
	if u.Freshness != engine.Current || c.units[u.Name] == nil {
		return
	}
	if owed := c.units[u.Name].owed; len(owed) > 0 {
		c.broke(5, "%s is shown as current, but %d of its rules were not run well", u.Name, len(owed))
	}
	if why := c.outdated(u.Name); why != "" {
		c.broke(5, "%s is shown as current, but %s", u.Name, why)
	}
}

func (c *Checker) outdated(name string) string {
	b := c.units[name]
	if n := b.behind(b.goodRead); n > 0 {
		return fmt.Sprintf("%s has not read %d of %d writings", name, n, len(b.told))
	}
	for _, f := range b.spec.Follows {
		if c.units[f].good == 0 && !c.units[f].wanted && c.units[f].behind(nil) == 0 {
			continue
		}
		if b.goodUp[f] != c.units[f].good {
			return fmt.Sprintf("%s does not build on run %d of %s", name, c.units[f].good, f)
		}
		if why := c.outdated(f); why != "" {
			return why
		}
	}
	return ""
}

// AtRest checks what must hold when nothing more will happen by itself.
func (c *Checker) AtRest() {
	snap := c.world.Engine.Snapshot()
	for i := range snap.Units {
		u := &snap.Units[i]
		if u.State.InMotion() || u.Moving {
			c.broke(7, "%s is %s for ever", u.Name, u.State)
		}
	}
	for _, r := range snap.Ripples {
		if !r.Resting() {
			c.broke(7, "ripple %d never comes to rest", r.ID)
		}
	}
	for _, spec := range c.plan.Units {
		u, b := snap.Unit(spec.Name), c.units[spec.Name]
		if !c.chainHolds(spec, snap) {
			continue
		}
		switch {
		case b.wanted && u.Freshness != engine.Current:
			c.broke(4, "%s is %s and %s at rest: %s", u.Name, u.State, u.Freshness, u.Why)
		case !b.wanted && u.State != engine.Stopped && u.State != engine.Idle && !(spec.Manual && u.State == engine.Done):
			c.broke(6, "%s is %s although it was to be stopped", u.Name, u.State)
		}
		if b.must > 0 {
			c.broke(6, "%s was never restarted as asked", u.Name)
		}
	}
}

// chainHolds reports whether nothing that the unit waits for, nor itself, has
// failed, is stopped or paused, or runs by request alone.
func (c *Checker) chainHolds(spec *plan.Unit, snap *engine.Snapshot) bool {
	if u := snap.Unit(spec.Name); u.State.Broken() || c.world.isDeaf(spec.Name) || c.units[spec.Name].paused || snap.Paused {
		return false
	}
	return !slices.ContainsFunc(spec.Upstream(), func(name string) bool {
		up := c.plan.Unit(name)
		u := snap.Unit(name)
		return u.State == engine.Stopped || u.State == engine.Idle || !c.chainHolds(up, snap) ||
			!c.units[name].wanted && u.Freshness != engine.Current
	})
}
