package simulate

import (
	"fmt"
	"maps"
	"slices"

	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/plan"
)

// afterStep checks what the engine shows and has ordered against the rules.
func (c *Checker) afterStep(ev engine.Event, orders []engine.Order) {
	snap := c.world.Engine.Snapshot()
	for i := range snap.Units {
		// The engine finds readiness by running for a while itself.
		u := snap.Units[i]
		b := c.of(u.Name)
		if !u.Run.ReadyAt.IsZero() && b.live == u.Run.Number && b.lived != u.Run.Number && !b.spec.Ready.Probed() &&
			b.spec.Pass == nil {
			b.lived = u.Run.Number
			c.succeed(u.Name)
		}
	}
	if end, ok := ev.(engine.Exited); ok {
		c.widened(end, snap)
	}
	for _, o := range orders {
		if o, ok := o.(engine.IgnoreFiles); ok {
			c.ignored(o, ev)
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
		c.truth(snap.Units[i])
		c.health(snap.Units[i], ev)
		if b := c.of(snap.Units[i].Name); b.said.Run > 0 && snap.Units[i].Report.Version != b.said.Version {
			c.broke(
				12,
				"%s is shown by report %d, not by its last, %d",
				snap.Units[i].Name,
				snap.Units[i].Report.Version,
				b.said.Version,
			)
		}
	}
	c.verdict(snap)
	c.times(snap)
	c.uncovered(snap)
	c.needsGone(snap)
	c.pages(snap, ev, orders)
	c.stillness(snap, ev, orders)
}

// stillness checks rule 16: a timer does not move what is at rest.
func (c *Checker) stillness(snap *engine.Snapshot, ev engine.Event, orders []engine.Order) {
	if _, is := ev.(engine.TimerFired); is && c.rested {
		for _, o := range orders {
			switch o := o.(type) {
			case engine.Start:
				c.broke(16, "%s starts by itself although all was at rest", o.Unit)
			case engine.StopRun:
				c.broke(16, "%s is stopped although all was at rest", o.Unit)
			}
		}
	}
	c.rested = snap.AtRest(nil, nil)
}

// health checks that a service is shown as its last check found it.
func (c *Checker) health(u *engine.Unit, ev engine.Event) {
	b := c.of(u.Name)
	look, is := ev.(engine.Checked)
	switch is = is && look.Unit == u.Name; {
	case b.ails && u.State == engine.Ready:
		c.broke(14, "%s is shown as ready although a look at it has found it in trouble", u.Name)
	case is && b.ready && look.Problem == "" && u.State != engine.Ready:
		c.broke(14, "%s is %s although a look at it has found it well", u.Name, u.State)
	}
}

// widened records that a unit runs all its cases again because the selected ones have passed, and checks that it
// does.
func (c *Checker) widened(ev engine.Exited, snap *engine.Snapshot) {
	u, b := snap.Unit(ev.Unit), c.of(ev.Unit)
	if u == nil || u.Narrowed == b.narrowed {
		return
	}
	if u.Narrowed != "" || !b.spec.Widen || !b.done || b.some != b.narrowed {
		c.broke(6, "%s is narrowed to %q, not to %q", u.Name, u.Narrowed, b.narrowed)
	}
	b.narrowed, b.narrow, b.wanted, b.must = "", nil, true, b.newest+1
	c.wantNeeds(ev.Unit, map[string]bool{})
	c.excuse(ev.Unit)
}

// verdict checks the word of the verdict against the enabled units and their states.
func (c *Checker) verdict(snap *engine.Snapshot) {
	wanted, current, moving, stale, broken, busy := 0, 0, 0, 0, 0, 0
	for i := range snap.Units {
		u := snap.Units[i]
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
	case broken > 0 && stale > 0: // reported as broken, or as the cause of what is stale
		may = []engine.VerdictWord{engine.VerdictBroken, engine.VerdictStale}
		if (moving > 0 || unread) && c.world.Unwatched == "" {
			may[1] = engine.VerdictUpdating
		}
	case broken > 0:
		may = append(may, engine.VerdictBroken)
	case c.world.Unwatched != "" && wanted > 0:
		may = append(may, engine.VerdictStale)
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
		c.broke(
			9,
			"%s %q with %d wanted, %d current, %d moving, %d stale, %d broken, settings unread %t",
			word,
			explain.Verdict(snap),
			wanted,
			current,
			moving,
			stale,
			broken,
			unread,
		)
	}
}

// changed records what settled files require. What a unit writes itself requires nothing once that is known.
func (c *Checker) changed(ev engine.Change) {
	for _, h := range ev.Hits {
		b := c.units[h.Unit]
		switch {
		case b == nil: // it was removed from the settings
		case c.countsAsNothing(b, h):
			b.void[ev.Burst] = b.void[ev.Burst] ||
				!slices.ContainsFunc(
					ev.Hits,
					func(o engine.Hit) bool { return o.Unit == h.Unit && !c.countsAsNothing(b, o) },
				)
		default:
			b.owe(h)
		}
	}
}

// allIgnored reports whether a unit ignores all of its files that were written and have the same contents.
func (c *Checker) allIgnored(b *books, unit string, hits []engine.Hit) bool {
	for _, h := range hits {
		if h.Unit == unit && !b.ignored[h.Path] {
			return false
		}
	}
	return len(b.ignored) > 0 && len(hits) > 0
}

// countsAsNothing reports whether a hit's file is ignored, or its reaction could only fail, by the settings in use.
func (c *Checker) countsAsNothing(b *books, h engine.Hit) bool {
	return b.ignored[h.Path] || h.Missing != "" && h.Reaction <= len(b.spec.Reactions) || b.forPages(h)
}

func (c *Checker) started(o engine.Start, snap *engine.Snapshot) {
	b := c.units[o.Unit]
	c.setOff(o.Unit, snap.Unit(o.Unit).Run.Reasons)
	if b.live != 0 {
		c.broke(1, "%s run %d starts while run %d lives", o.Unit, o.Run, b.live)
	}
	b.unruled = nil
	b.live, b.newest, b.ready, b.ails, b.done, b.signalled = o.Run, o.Run, false, false, false, false
	if b.job, b.heavy = b.takesJob(), false; b.job {
		c.jobs(o.Unit)
	}
	words := slices.Concat(b.words, b.narrow)
	b.some, b.fails, b.said = b.narrowed, false, engine.Report{}
	if n := len(b.once); n > 0 {
		words, b.some = b.once[n-1], ""
	}
	if o.Narrow != (b.some != "") {
		c.broke(6, "%s runs some of its cases: %t, which it should: %q", o.Unit, o.Narrow, b.some)
	}
	if !slices.Equal(words, o.Words) {
		c.broke(6, "%s runs with the words %q, not %q", o.Unit, o.Words, words)
	}
	b.once = nil
	b.payable, b.command = nil, ""
	if c := o.Command.String(); c != b.spec.Run.String() {
		b.command = c
	}
	b.owed[b.command] = true // until it has succeeded
	if b.some != "" {
		b.owed[""] = true // and everything that is left out
	}
	if b.asked = b.must > 0 && o.Run >= b.must; b.asked {
		b.must = 0
	}
	for _, n := range b.spec.Needs {
		need := c.units[n]
		if !need.ready && (need.live != 0 || !need.done) {
			c.broke(2, "%s starts while %s is %s", o.Unit, n, snap.Unit(n).State)
		}
	}
	ids := snap.Unit(o.Unit).Run.Ripples
	for _, id := range ids {
		if c.moves[id] == nil {
			c.moves[id] = map[string]int{}
		}
		if len(ids) > 1 {
			continue // another ripple has a reason for the run, too
		}
		c.moves[id][o.Unit]++
		if c.moves[id][o.Unit] > 1+c.after[id][o.Unit] {
			c.broke(3, "ripple %d runs %s %d times", id, o.Unit, c.moves[id][o.Unit])
		}
	}
}

// jobs checks that a unit may run at the same time as those that do.
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
	if limit := max(1, c.plan.Jobs-c.foreign); c.plan.Jobs > 0 && n > limit {
		c.broke(10, "%s is at work as number %d of %d", name, n, limit)
	}
	if alone != "" && n > 1 {
		c.broke(10, "%s is at work at the same time as %s, which runs alone", name, alone)
	}
}

// truth checks that what is shown as current has read everything written.
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
		if b.goodUp[f] != c.units[f].good &&
			!c.world.blind { // otherwise a pass may be taken for another result of the one before
			return fmt.Sprintf("%s does not build on run %d of %s", name, c.units[f].good, f)
		}
		if why := c.outdated(f); why != "" {
			return why
		}
	}
	return ""
}

// AtRest checks what must be true when nothing more will happen by itself.
func (c *Checker) AtRest() {
	c.noPageWaits()
	if snap := c.world.Engine.Snapshot(); !snap.AtRest(nil, nil) && !c.world.Finished {
		c.broke(16, "nothing more will happen, and it is not at rest: %s %s", snap.Verdict.Word, explain.Verdict(snap))
	}
	snap := c.world.Engine.Snapshot()
	for i := range snap.Units {
		u := snap.Units[i]
		if u.State.InMotion() || u.Moving {
			c.broke(7, "%s is %s forever", u.Name, u.State)
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
		case b.narrowed != "":
			if u.Freshness == engine.Current && b.some != "" ||
				b.wanted && b.spec.Widen && b.done && b.some == b.narrowed {
				c.broke(4, "%s is %s although it is narrowed to %s", u.Name, u.Freshness, b.narrowed)
			}
		case b.wanted && u.Freshness != engine.Current:
			c.broke(4, "%s is %s and %s at rest: %s", u.Name, u.State, u.Freshness, explain.Why(u))
		case !b.wanted && u.State != engine.Stopped && u.State != engine.Idle &&
			!(spec.Manual && u.State == engine.Done):
			c.broke(6, "%s is %s although it was to be stopped", u.Name, u.State)
		}
		if b.must > 0 {
			c.broke(6, "%s was never restarted as asked", u.Name)
		}
	}
}

// chainHolds reports whether nothing that the unit waits for, nor the unit itself, has failed, is stopped or paused,
// or runs only on request.
func (c *Checker) chainHolds(spec *plan.Unit, snap *engine.Snapshot) bool {
	if u := snap.Unit(
		spec.Name,
	); u.State.Broken() || c.world.IsDeaf(spec.Name) || c.world.isUnsure(spec.Name) || c.units[spec.Name].paused ||
		snap.Paused {
		return false
	}
	return !slices.ContainsFunc(spec.Upstream(), func(name string) bool {
		up := c.plan.Unit(name)
		u := snap.Unit(name)
		return u.State == engine.Stopped || c.units[name].narrowed != "" || u.State == engine.Idle ||
			!c.chainHolds(up, snap) ||
			!c.units[name].wanted && u.Freshness != engine.Current
	})
}
