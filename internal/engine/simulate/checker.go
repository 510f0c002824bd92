package simulate

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// Checker watches a world and holds it to the rules:
//
//  1. never two live runs of one unit;
//
//  2. no unit starts while a need is not ready or done;
//
//  3. a ripple runs each unit at most once, unless a later change, a request or
//     a crash concerns it;
//
//  4. when all is at rest, every unit whose chain did not fail is current;
//
//  5. stale is never shown as current;
//
//  6. no request and no change is ever lost;
//
//  7. every order is answered or timed out; nothing waits forever;
//
//  8. units that set themselves or each other off are noticed by the third time, and none
//     ignores what is in no such loop;
//
//  9. the verdict is CURRENT if and only if some unit is wanted, every wanted unit is
//     current and at rest, and the saved settings are in use; each other word has its
//     reason; while files are not watched it is at most stale;
//
//  10. never more tasks, suites and setup steps at once than there are jobs, and none
//     at the same time as one that runs alone;
//
//  11. a result is not reused when a user wants it run;
//
//  12. what a run said last is what counts, however late the rest of it comes;
//
//  13. a unit whose program compares file times, and which is shown as current, has made what it made
//     from the newest contents, or there is a doubt about it; no doubt is without a reason;
//
//  14. a service is not shown as ready from a look that finds it in trouble to one that finds it well, and is so
//     after that;
//
//  15. a page of a relay is let through only when what it comes from has read all that was written, or the page says
//     so; it is out of date when a unit behind it has run again; nothing waits at rest; files that are for pages
//     alone refresh these, once for each relay, and set no unit off;
//
//  16. when nothing more will happen all is at rest, and what is at rest is moved by no timer;
//
//  17. there is a doubt about each file that the newest run of a wanted unit was seen to read and no rule covers, and
//     no other doubt of that kind;
//
//  18. there is a doubt about each service that a running wanted unit needs and that is stopped or does not answer, and
//     no other doubt of that kind.
type Checker struct {
	Broken []string // the broken rules, with what was seen

	world *World
	plan  *plan.Plan
	units map[string]*books
	gone  map[string]*books      // of units that were removed from the settings
	moves map[int]map[string]int // runs, by ripple and unit
	after map[int]map[string]int // reasons for another run, by ripple and unit

	settingsTouched, settingsRead int  // bursts of writes to the settings
	settingsBroken                bool // the newest that was read is invalid
	quitting                      bool
	foreign                       int // processors that other programs use
	loops                         loops
	ripple                        int                   // the newest seen
	rested                        bool                  // everything was at rest after the step before
	generations                   map[string]generation // of pages, by unit
}

// books are the checker's own record of a unit.
type books struct {
	spec  *plan.Unit
	world *World

	ordered
	heard
	wished
	owing
}

// ordered are the runs of a unit that the engine has ordered.
type ordered struct {
	live       int           // the run that is not over; 0: none
	newest     int           // the newest
	words      []string      // to be added to its command
	once       [][]string    // instead of these, for the next runs
	narrowed   string        // a description of the cases
	narrow     []string      // the arguments for them
	some       string        // the cases of its newest run
	fails      bool          // its live run has reported something that makes it a failed one
	said       engine.Report // the last report of its newest run
	ready      bool
	ails       bool // a check has failed
	lived      int  // the newest run that was ready after running for a while
	signalled  bool // the live run was told to end
	done       bool // its newest run succeeded
	good       int  // the number of good runs
	goodBefore int  // the number of good runs and passes before the newest good pass
	upGood     map[string]int
	goodUp     map[string]int // the generation of each followed unit at the newest good run
}

// heard is what was written of a unit's files, and who knows of it.
type heard struct {
	told     writings          // that were reported to the engine
	read     writings          // of those, what the newest run could read
	goodRead writings          // what the newest good run could read
	undone   map[int]bool      // bursts that changed nothing in the end
	toldAt   map[int]time.Time // when each was last reported
	toldTo   map[int]int       // the run that was live then
	void     map[int]bool      // bursts that do not count
	edits    int               // of its settings
	ignored  map[string]bool   // files of loops that are ignored
	tookUp   []int             // the writes that its newest good pass has picked up

	// Of a unit that picks up changes by itself.
	really writings         // all that were made, reported or not
	passes map[int]writings // of those, what each pass could read
	deaf   bool             // it picks up nothing, not even that a file was restored
}

// wished is what was requested of a unit.
type wished struct {
	wanted bool
	paused bool
	must   int  // a request requires a run of at least this number
	asked  bool // its newest run is such a run
}

// owing are commands of reactions, or "" for everything, that must succeed before a unit is current again.
type owing struct {
	owed    map[string]bool
	payable []string        // those that the live run can do
	command string          // the one that it runs
	job     bool            // its live run is a task's or suite's, or in a setup step
	unruled map[string]bool // files that its newest run was seen to read and no rule covers
	heavy   bool            // the announced step is a setup step
}

func (c *Checker) newBooks(spec *plan.Unit) *books {
	return &books{
		spec:    spec,
		world:   c.world,
		ordered: ordered{upGood: map[string]int{}, goodUp: map[string]int{}},
		heard: heard{
			told: writings{}, really: writings{}, passes: map[int]writings{}, undone: map[int]bool{},
			toldAt: map[int]time.Time{}, toldTo: map[int]int{}, void: map[int]bool{},
		},
		owing: owing{owed: map[string]bool{"": true}},
	}
}

// writings are how often files were written in each burst. An edit of the settings is a write with a negative number.
type writings map[int]int

// behind returns the number of bursts that a run that could read these has not read completely.
func (b *books) behind(read writings) int {
	n := 0
	for burst, times := range b.told {
		if heard := read[burst]; heard < times && !b.void[burst] &&
			!(b.undone[burst] && (heard == 0 && b.mayPass(burst) || b.deaf)) {
			n++
		}
	}
	return n
}

// mayPass reports whether a pass need not be awaited that may follow a burst that changed nothing.
func (b *books) mayPass(burst int) bool {
	for _, could := range b.passes {
		if could[burst] >= b.told[burst] {
			return true // it has come
		}
	}
	return b.spec.Pass == nil || b.spec.SkipUnchanged || b.live == 0 || b.live != b.toldTo[burst] ||
		b.world.Now.Sub(b.toldAt[burst]) >= b.spec.Pass.Within
}

// hasNews reports whether the newest pass of a unit in a loop has read anything that is not ignored.
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
		c.units[u.Name] = c.newBooks(u)
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
	c.Broken = append(
		c.Broken,
		fmt.Sprintf("rule %d, step %d, %s: ", rule, c.world.Steps, c.world.Now.Format("15:04:05.000"))+
			fmt.Sprintf(format, args...),
	)
}

// before records what the engine is about to learn.
func (c *Checker) before(ev engine.Event) {
	switch ev := ev.(type) {
	case engine.Uncovered:
		c.reads(ev)
	case engine.Surveyed:
		c.foreign = ev.Foreign
	case engine.Begin:
		for _, u := range c.plan.Units {
			c.units[u.Name].wanted = !u.Manual
		}
	case engine.Touched:
		for _, name := range ev.Units {
			if b := c.units[name]; b != nil && b.spec.Relay == nil && !c.world.doubled {
				b.told[ev.Burst]++
				b.toldAt[ev.Burst], b.toldTo[ev.Burst] = c.world.Now, b.live
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
			b.goodBefore, b.tookUp = before, nil
			for burst := range b.told {
				if b.read[burst] != b.goodRead[burst] {
					b.tookUp = append(b.tookUp, burst)
				}
			}
			if c.succeed(ev.Unit); !news && before > 0 {
				b.good = before // it has picked up ignored files
			}
		}
	case engine.SettingsTouched:
		c.settingsTouched = max(c.settingsTouched, ev.Burst)
	case engine.Unwatched:
		c.settingsRead = c.settingsTouched // they are read when files are watched again
	case engine.PlanBroken:
		c.settingsRead, c.settingsBroken = max(c.settingsRead, ev.Burst), true
	case engine.Change:
		for _, h := range ev.Hits {
			b := c.units[h.Unit]
			if b == nil || b.spec.Relay != nil {
				continue // it was removed from the settings, or does nothing itself
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
				b.void[ev.Burst] = c.allIgnored(b, name, ev.Hits)
				c.excuse(name)
			}
		}
	case engine.SettingUp:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.heavy = ev.Heavy
		}
	case engine.Spawned:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.job = b.takesJob()
		}
	case engine.Reused:
		c.reused(ev)
	case engine.NotSpawned:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.live = 0
			c.excuse(ev.Unit)
		}
	case engine.Reported:
		if b := c.of(ev.Unit); b.live == ev.Run {
			if ev.Final {
				b.fails, b.said = ev.Fails, ev.Report
			}
		}
	case engine.Exited:
		c.exited(ev)
	case engine.BecameReady:
		if u := c.world.Engine.Snapshot().Unit(ev.Unit); u != nil && u.State == engine.Failed {
			// It is late: its followers may have acted without it, or have not been able to.
			c.excuse(ev.Unit)
			for _, other := range c.plan.Units {
				if slices.Contains(other.Needs, ev.Unit) {
					c.excuse(other.Name)
				}
			}
		}
		if b := c.of(
			ev.Unit,
		); b.live == ev.Run && !b.ready && !b.ails && !b.signalled && b.spec.Ready.Probed() &&
			b.spec.Pass == nil {
			c.succeed(ev.Unit)
		}
	case engine.Checked:
		if b := c.of(
			ev.Unit,
		); b.live == ev.Run && b.spec.Pass == nil && !b.signalled && b.ready != (ev.Problem == "") &&
			(b.ready || b.ails) {
			b.ready, b.ails = ev.Problem == "", ev.Problem != ""
			for _, d := range c.plan.Units {
				if slices.Contains(d.Needs, ev.Unit) {
					c.excuse(d.Name) // it may have waited
				}
			}
		}
	case engine.Requested:
		c.requested(ev)
	case engine.NewPlan:
		if c.settingsRead, c.settingsBroken = max(c.settingsRead, ev.Burst), false; !c.quitting {
			c.newPlan(ev.Plan)
		}
	}
}

// takesJob reports whether the unit's run needs a job from its start.
func (b *books) takesJob() bool { return b.spec.Kind.Ends() && !b.spec.MayServe }

// owe records what a hit requires. Hits that are handled by a signal require no run.
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
		b.owed[key] = true // otherwise its run was ordered after the write and does it
	}
}

// newPlan records an edit of the settings.
func (c *Checker) newPlan(p *plan.Plan) {
	d := plan.Compare(c.plan, p)
	for _, name := range d.Removed {
		c.units[name].wanted, c.units[name].must = false, 0
		c.units[name].narrowed, c.units[name].narrow = "", nil
		c.gone[name] = c.units[name]
		delete(c.units, name)
	}
	for _, u := range p.Units {
		if c.units[u.Name] == nil {
			c.units[u.Name] = c.newBooks(u)
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
		c.excuse(name) // also a unit that follows another one only since the middle of a ripple
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

// excuse allows every open ripple one more run of the unit and of all that follow it.
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
	good := ev.Exit.OK() && !(b.fails && b.lived != ev.Run)
	if b.spec.Kind.Ends() && good && !b.signalled {
		if b.lived == ev.Run { // it was a service's then
			b.done = true
		} else {
			c.succeed(ev.Unit)
		}
		if b.spec.Manual && b.must == 0 {
			b.wanted = false // until a request starts it
		}
	}
	if !b.signalled && (!b.spec.Kind.Ends() || !good) {
		c.excuse(ev.Unit) // it crashed or failed, and may be tried again
	}
	b.live, b.ready, b.ails = 0, false, false
}

// reused records that a task need not run, because its last good result is valid.
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
	if before > 0 && !ev.Restored {
		b.good = before // it is the same result
	}
	if b.spec.Manual && b.must == 0 {
		b.wanted = false
	}
	b.live, b.ready, b.job = 0, false, false
}

// again begins a new session: the engine knows nothing of the last one.
func (c *Checker) again() {
	c.plan, c.units, c.gone = c.world.Plan, map[string]*books{}, map[string]*books{}
	for _, u := range c.plan.Units {
		c.units[u.Name] = c.newBooks(u)
	}
	c.moves, c.after, c.loops = map[int]map[string]int{}, map[int]map[string]int{}, newLoops()
	c.settingsTouched, c.settingsRead, c.settingsBroken, c.quitting = 0, 0, false, false
	c.foreign = 0
}

// succeed records that the live run is a good one.
func (c *Checker) succeed(unit string) {
	b := c.of(unit)
	b.done = b.spec.Kind.Ends() && b.lived != b.live
	b.ready = !b.done
	if b.some != "" { // it does not cover the other cases
		return
	}
	b.good++
	b.goodRead, b.goodUp = b.read, b.upGood
	for _, key := range b.payable {
		if b.command == "" || b.command == key {
			delete(b.owed, key)
		}
	}
	b.payable = nil
	if b.command != "" && len(b.owed) > 0 {
		c.excuse(unit) // what is still owed runs now
	}
}

// of returns the books of a unit, even of one that was removed from the settings.
func (c *Checker) of(name string) *books {
	if b := c.units[name]; b != nil {
		return b
	}
	if b := c.gone[name]; b != nil {
		return b
	}
	return c.newBooks(&plan.Unit{Name: name})
}

func (c *Checker) requested(ev engine.Requested) {
	for _, unit := range ev.Units {
		switch b := c.of(unit); ev.Request {
		case engine.AddWords:
			b.words = ev.Words
		case engine.RunWith:
			b.once = append(b.once, ev.Words)
		case engine.Narrow:
			if !b.spec.Kind.Ends() {
				continue
			}
			b.narrowed, b.narrow = ev.To, ev.Words
		case engine.Widen:
			if b.narrowed == "" {
				continue
			}
			b.narrowed, b.narrow = "", nil
		}
		c.requestedOf(ev.Request, unit)
	}
	if ev.Request == engine.Only {
		c.only(ev.Units)
	}
	if ev.Request == engine.ResumeAll {
		for _, b := range c.units {
			b.paused = false
		}
	}
	if ev.Request == engine.Quit || ev.Request == engine.QuitNow {
		c.quitting = true
	}
}

// only enables units and what they need, and disables all others; without units, it enables all that start by
// themselves.
func (c *Checker) only(units []string) {
	snap := c.world.Engine.Snapshot()
	needed, _ := c.plan.WithNeeds(units)
	for _, spec := range c.plan.Units {
		b, u := c.units[spec.Name], snap.Unit(spec.Name)
		done := u.State == engine.Done || u.State == engine.Ready
		switch {
		case len(units) == 0 && !spec.Manual, slices.Contains(units, spec.Name):
			b.wanted = true
			c.wantNeeds(spec.Name, map[string]bool{})
		case len(units) == 0:
			continue
		case !slices.Contains(needed, spec):
			b.wanted, b.must, b.once = false, 0, nil
		case !done || u.Freshness != engine.Current:
			b.wanted = true
		}
		c.excuse(spec.Name)
	}
}

func (c *Checker) requestedOf(request engine.Request, unit string) {
	b := c.of(unit)
	switch request {
	case engine.StopUnit:
		b.wanted, b.must, b.once = false, 0, nil
		c.excuse(unit) // units that waited for it may continue without it
	case engine.StartUnit,
		engine.RestartUnit,
		engine.SetUpUnit,
		engine.AddWords,
		engine.RunWith,
		engine.Narrow,
		engine.Widen:
		b.wanted = true
		c.wantNeeds(unit, map[string]bool{})
		c.excuse(unit)
		if request != engine.StartUnit {
			b.must = b.newest + 1
		}
	case engine.ReactAgain:
		c.savedFor(unit)
	case engine.PauseUnit:
		b.paused = true
	case engine.ResumeUnit:
		b.paused = false
	}
}

// wantNeeds enables everything that a unit needs, except tasks on request that are done and current.
func (c *Checker) wantNeeds(name string, seen map[string]bool) {
	snap := c.world.Engine.Snapshot()
	for _, n := range c.plan.Unit(name).Needs {
		if seen[n] {
			continue
		}
		seen[n] = true
		if u := snap.Unit(n); u.State != engine.Done && u.State != engine.Ready || u.Freshness != engine.Current {
			c.units[n].wanted = true
			c.excuse(n)
		}
		c.wantNeeds(n, seen)
	}
}

// spawned records what a process can read: everything written by now.
func (c *Checker) spawned(unit string, _ int) {
	b := c.of(unit)
	b.read, b.payable = maps.Clone(b.told), slices.Sorted(maps.Keys(b.owed))
	b.upGood = map[string]int{}
	for _, f := range b.spec.Follows {
		b.upGood[f] = c.of(f).good
	}
}

func (c *Checker) wrote(unit string, burst int) { c.of(unit).really[burst]++ }

// passBegins records what a pass can read: everything written by now, and the settings with which its process was
// started.
func (c *Checker) passBegins(unit string, pass int) {
	b := c.of(unit)
	can := maps.Clone(b.really)
	for burst, times := range b.read {
		if burst < 0 {
			can[burst] = times
		}
	}
	b.passes[pass], b.deaf = can, c.world.IsDeaf(unit)
}
