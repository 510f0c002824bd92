package simulate

import (
	"fmt"
	"maps"
	"slices"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// observing reports what the run of an observed unit was seen to read and no rule covers: a file, then one or two more,
// then that a rule covers the first, and at last the same again, when the run may be over. How many depends on the run.
func (w *World) observing(unit string, run int) {
	if u := w.Plan.Unit(unit); u == nil || !u.Observe || run%4 == 0 {
		return
	}
	var files []string
	for i := range 1 + run%3 {
		files = append(files, fmt.Sprintf("unruled/%d", i))
	}
	for _, one := range []struct {
		after time.Duration
		seen  []string
	}{
		{40 * time.Millisecond, files[:1]}, {900 * time.Millisecond, files}, {5 * time.Second, files[1:]},
		{30 * time.Second, files[1:]},
	} {
		w.In(one.after, func() { w.Send(engine.Uncovered{Unit: unit, Run: run, Files: one.seen}) })
	}
}

// doubtedBy returns what the doubts of one kind are about, by unit.
func doubtedBy(
	snap *engine.Snapshot, kind engine.DoubtKind, about func(engine.Doubt) string,
) map[string]map[string]bool {
	by := map[string]map[string]bool{}
	for _, d := range snap.Doubts {
		if d.Kind != kind {
			continue
		}
		if by[d.Unit] == nil {
			by[d.Unit] = map[string]bool{}
		}
		by[d.Unit][about(d)] = true
	}
	return by
}

// uncovered checks the doubts about what was observed: there is one for each file that the newest run of a unit was
// last reported to have read without a rule, and no other.
func (c *Checker) uncovered(snap *engine.Snapshot) {
	doubted := doubtedBy(snap, engine.DoubtUncovered, func(d engine.Doubt) string { return d.File })
	for name, b := range c.units {
		if want := b.unruled; b.wanted && !c.quitting && !maps.Equal(want, doubted[name]) {
			c.broke(17, "%s has read %v without a rule, and there are doubts about %v", name,
				slices.Sorted(maps.Keys(want)), slices.Sorted(maps.Keys(doubted[name])))
		}
	}
}

// needsGone checks the doubts about needs: there is one for each service that a running unit needs and that is stopped
// or does not answer, and no other.
func (c *Checker) needsGone(snap *engine.Snapshot) {
	doubted := doubtedBy(snap, engine.DoubtNeed, func(d engine.Doubt) string { return d.Need })
	for name, b := range c.units {
		want := map[string]bool{}
		for _, need := range b.spec.Needs {
			up := c.units[need]
			if up != nil && up.spec.Kind == plan.Service && b.live != 0 &&
				(!up.wanted && up.live == 0 || up.live != 0 && up.ails) {
				want[need] = true
			}
		}
		if b.wanted && !c.quitting && !maps.Equal(want, doubted[name]) {
			c.broke(18, "%s runs without %v, and there are doubts about %v", name, slices.Sorted(maps.Keys(want)),
				slices.Sorted(maps.Keys(doubted[name])))
		}
	}
}

// reads records what a run was reported to have read without a rule.
func (c *Checker) reads(ev engine.Uncovered) {
	if b := c.units[ev.Unit]; b != nil && b.newest == ev.Run && b.newest > 0 {
		b.unruled = map[string]bool{}
		for _, file := range ev.Files {
			b.unruled[file] = true
		}
	}
}
