package simulate

import (
	"maps"
	"slices"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

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
		c.touched(ev)
	case engine.Change:
		c.change(ev)
	case engine.Unchanged:
		c.unchanged(ev)
	case engine.PassBegan:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.ready = false
			c.excuse(ev.Unit)
		}
	case engine.PassEnded:
		c.passEnded(ev)
	case engine.SettingUp:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.heavy = ev.Heavy
		}
	case engine.Spawned:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.job = b.takesJob()
		}
	case engine.NotSpawned:
		if b := c.of(ev.Unit); b.live == ev.Run {
			b.live = 0
			c.excuse(ev.Unit)
		}
	case engine.Reported:
		if b := c.of(ev.Unit); b.live == ev.Run && ev.Final {
			b.fails, b.said = ev.Fails, ev.Report
		}
	case engine.Reused:
		c.reused(ev)
	case engine.Exited:
		c.exited(ev)
	case engine.BecameReady:
		c.becameReady(ev)
	case engine.Checked:
		c.checked(ev)
	case engine.Requested:
		c.requested(ev)
	default:
		c.beforeSettings(ev)
	}
}

// beforeSettings is before for the events about the settings.
func (c *Checker) beforeSettings(ev engine.Event) {
	switch ev := ev.(type) {
	case engine.SettingsTouched:
		c.settingsTouched = max(c.settingsTouched, ev.Burst)
	case engine.Unwatched:
		c.settingsRead = c.settingsTouched // they are read when files are watched again
	case engine.PlanBroken:
		c.settingsRead, c.settingsBroken = max(c.settingsRead, ev.Burst), true
	case engine.NewPlan:
		if c.settingsRead, c.settingsBroken = max(c.settingsRead, ev.Burst), false; !c.quitting {
			c.newPlan(ev.Plan)
		}
	}
}

func (c *Checker) touched(ev engine.Touched) {
	for _, name := range ev.Units {
		b := c.units[name]
		if b == nil || b.spec.Relay != nil || c.world.doubled {
			continue
		}
		b.told[ev.Burst]++
		b.toldAt[ev.Burst], b.toldTo[ev.Burst] = c.world.Now, b.live
		c.excuse(name)
		if !c.world.makes[ev.Burst] {
			c.savedFor(name)
		}
	}
}

func (c *Checker) change(ev engine.Change) {
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
}

func (c *Checker) unchanged(ev engine.Unchanged) {
	for _, name := range ev.Units {
		if b := c.units[name]; b != nil {
			b.undone[ev.Burst] = true
			b.void[ev.Burst] = c.allIgnored(b, name, ev.Hits)
			c.excuse(name)
		}
	}
}

func (c *Checker) passEnded(ev engine.PassEnded) {
	b := c.of(ev.Unit)
	if b.live != ev.Run || !ev.Good || b.signalled || c.world.doubled {
		return
	}
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

func (c *Checker) becameReady(ev engine.BecameReady) {
	if u := c.world.Engine.Snapshot().Unit(ev.Unit); u != nil && u.State == engine.Failed {
		// It is late: its followers may have acted without it, or have not been able to.
		c.excuse(ev.Unit)
		c.excuseThoseThatNeed(ev.Unit)
	}
	b := c.of(ev.Unit)
	if b.live == ev.Run && !b.ready && !b.ails && !b.signalled && b.spec.Ready.Probed() && b.spec.Pass == nil {
		c.succeed(ev.Unit)
	}
}

func (c *Checker) checked(ev engine.Checked) {
	b, good := c.of(ev.Unit), ev.Problem == ""
	if b.live != ev.Run || b.spec.Pass != nil || b.signalled || b.ready == good || !b.ready && !b.ails {
		return
	}
	b.ready, b.ails = good, !good
	c.excuseThoseThatNeed(ev.Unit) // they may have waited
}

func (c *Checker) excuseThoseThatNeed(unit string) {
	for _, other := range c.plan.Units {
		if slices.Contains(other.Needs, unit) {
			c.excuse(other.Name)
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
