package simulate

import (
	"slices"
	"strings"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// loops are the checker's record of what really sets off what.
type loops struct {
	// rows has, for each unit, the chain of units that set each other off before its newest run or pass, itself last;
	// made, for each file, the chain of its last writer.
	rows, made map[string][]string
	sets       map[string]map[string]bool // which units have written files that affect which
	pardoned   map[string]bool            // units whose next run has another cause, too
	// If a file is saved at the very moment at which a unit writes, its writer is unknown: when both were last done
	// for a unit, and for which units that was so.
	madeAt, savedAt map[string]time.Time
	blurred         map[string]bool
}

func newLoops() loops {
	return loops{
		map[string][]string{},
		map[string][]string{},
		map[string]map[string]bool{},
		map[string]bool{},
		map[string]time.Time{},
		map[string]time.Time{},
		map[string]bool{},
	}
}

// blur records that a file that affects a unit was written by one or the other.
func (l *loops) blur(unit string, now time.Time, own, others map[string]time.Time) {
	own[unit] = now
	if at, ok := others[unit]; ok && now.Sub(at) < 2*afterwards {
		l.blurred[unit] = true
	}
}

// maxRounds is how often a chain may come to a unit before that is noticed: twice, and again if another writer's
// change settles in between; and once for each other unit in it, up to two. A round counts late if a pass begins
// before the write that it picks up has settled, so there are two more with units that pick up changes by themselves.
// If a unit in the chain also sets itself off, two loops go through it, and rounds of one start again with each of
// the other, so there are two more again.
const maxRounds = 3

// madeBy records that a unit's process writes a file that affects a unit.
func (c *Checker) madeBy(by, unit string) {
	l := &c.loops
	l.blur(unit, c.world.Now, l.madeAt, l.savedAt)
	l.blur(by, c.world.Now, l.madeAt, l.savedAt) // it may have written its own, too
	if l.sets[by] == nil {
		l.sets[by] = map[string]bool{}
	}
	l.sets[by][unit] = true
	l.made[Made(by, unit)] = l.rows[by]
	if c.of(unit).spec.Pass != nil { // it will pick that up
		l.rows[unit] = append(slices.Clip(l.rows[by]), unit)
	}
}

// savedFor records that another writer has written what affects a unit.
func (c *Checker) savedFor(unit string) {
	c.loops.blur(unit, c.world.Now, c.loops.savedAt, c.loops.madeAt)
	c.loops.pardoned[unit] = true
	delete(c.loops.rows, unit)
}

// setOff records which chain a run continues, and checks that it is not too long.
func (c *Checker) setOff(unit string, reasons []engine.Reason) {
	l, b := &c.loops, c.of(unit)
	var row []string
	switch file, made := madeFile(reasons); {
	case l.made[file] != nil || made:
		row = append(slices.Clip(l.made[file]), unit)
	case c.onlyFollows(b.spec, reasons) && len(l.rows[reasons[0].Unit]) > 0:
		row = append(slices.Clip(l.rows[reasons[0].Unit]), unit)
	}
	if l.pardoned[unit] {
		row = nil
	}
	delete(l.pardoned, unit)
	l.rows[unit] = row
	others := slices.Compact(slices.Sorted(slices.Values(row)))
	most := maxRounds + min(len(others)-1, 2)
	if slices.ContainsFunc(others, func(name string) bool { return c.of(name).spec.Pass != nil }) {
		most += 2
	}
	if len(others) > 1 && slices.ContainsFunc(others, func(name string) bool { return l.sets[name][name] }) {
		most += 2
	}
	if c.world.ClockSet || c.world.missed > 0 {
		most++ // the writer of a file is unknown if clocks were set
	}
	if rounds := roundsOf(row); rounds > most {
		c.broke(8, "%s was set off %d times in a loop: %s", unit, rounds, strings.Join(row, ", "))
	}
}

// madeFile returns the file that alone set off a run, and reports whether a unit made one of those that did.
func madeFile(reasons []engine.Reason) (file string, made bool) {
	for _, r := range reasons {
		if r.Kind != engine.ReasonFiles || r.Count == 1 && r.What != "written" {
			continue
		}
		if len(reasons) == 1 && r.Count == 1 {
			file = r.Files[0]
		}
		made = made || slices.ContainsFunc(r.Files, func(f string) bool { return strings.Contains(f, "/by-") })
	}
	return file, made
}

// onlyFollows reports whether a unit acts only because others have finished again.
func (c *Checker) onlyFollows(spec *plan.Unit, reasons []engine.Reason) bool {
	return len(reasons) > 0 && !slices.ContainsFunc(reasons, func(r engine.Reason) bool {
		return !slices.Contains(spec.Follows, r.Unit)
	})
}

// roundsOf is how often a chain has come to its last unit, always from the same one.
func roundsOf(row []string) int {
	last, rounds := len(row)-1, 0
	for i := last; i > 0; i-- {
		if row[i] != row[last] {
			continue
		}
		if row[i-1] != row[last-1] {
			break
		}
		rounds++
	}
	return rounds
}

// ignored checks that a unit ignores only what sets it off in a loop.
func (c *Checker) ignored(o engine.IgnoreFiles, ev engine.Event) {
	// What continues from here is another loop.
	for _, rows := range []map[string][]string{c.loops.rows, c.loops.made} {
		for of, row := range rows {
			if slices.Contains(row, o.Unit) {
				rows[of] = row[:0:0]
			}
		}
	}
	b := c.of(o.Unit)
	if change, ok := ev.(engine.Change); ok && slices.Equal(b.tookUp, []int{change.Burst}) {
		b.good = b.goodBefore // its newest pass has picked up nothing that counts
	}
	before := b.ignored
	b.ignored = map[string]bool{}
	for _, f := range o.Files {
		if b.ignored[f] = true; before[f] {
			continue // of an earlier loop; an edit of the settings may have ended it
		}
		by, made := strings.CutPrefix(f, o.Unit+"/by-")
		if !made && c.loops.blurred[o.Unit] {
			continue
		}
		if !made || by != o.Unit && !c.leadsTo(o.Unit, by, map[string]bool{}) {
			c.broke(8, "%s ignores %s, which is not in a loop", o.Unit, f)
		}
	}
}

// leadsTo reports whether one unit can set off another, by what units write or follow.
func (c *Checker) leadsTo(from, to string, seen map[string]bool) bool {
	if from == to {
		return true
	}
	if seen[from] {
		return false
	}
	seen[from] = true
	for next := range c.loops.sets[from] {
		if c.leadsTo(next, to, seen) {
			return true
		}
	}
	return slices.ContainsFunc(c.plan.Units, func(u *plan.Unit) bool {
		return slices.Contains(u.Follows, from) && c.leadsTo(u.Name, to, seen)
	})
}
