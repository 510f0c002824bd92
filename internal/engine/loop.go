package engine

import (
	"path"
	"slices"
	"strings"
	"time"
)

// A unit whose own run writes files that concern it would run again and again.
// Whether a run has written a file cannot be seen directly, so it is concluded:
// from a row of runs, each caused by nothing but what was written during the one
// before it, at a like moment of its life, without the system swearing that
// somebody else did it. After two such runs the engine waits for a moment before
// it acts (the lookout): a person who saves often saves again, and that settles it.
// The third time the files are left out.

// chain is such a row of runs.
type chain struct {
	links int           // how many runs in a row wrote what makes the unit run
	burst int           // in which the newest of them wrote
	files []string      // what it wrote
	after time.Duration // how long after its process began it did
}

const (
	lookoutLinks = 2 // after so many, others are looked out for
	loopLinks    = 3 // after so many, it is a loop
)

// The lookout lasts twice as long as the run took to write, within these limits.
const (
	leastLookout = time.Second
	mostLookout  = 5 * time.Second
)

// link returns the chain that the unit's act on these hits would go on.
func (u *unit) link(t touch, hits []Hit) chain {
	if !t.suspect || u.spec.Pass != nil {
		return chain{}
	}
	writer := u.runNumber(t.byRun)
	if writer == nil {
		return chain{}
	}
	c := chain{links: 1, burst: t.burst, after: t.at.Sub(writer.spawnedAt)}
	c.files = pathsOf(hits)
	if before := writer.chain; before.links > 0 && alike(before.after, c.after) && sharedFolder(before.files, c.files) {
		c.links += before.links
	}
	return c
}

// alike reports whether two runs may have written for the same reason. Builds that
// take much longer the first time must pass.
func alike(a, b time.Duration) bool {
	less, more := min(a, b), max(a, b)
	return more-less < 500*time.Millisecond || more < 3*less
}

func sharedFolder(a, b []string) bool {
	return slices.ContainsFunc(a, func(p string) bool {
		return slices.ContainsFunc(b, func(q string) bool { return path.Dir(p) == path.Dir(q) })
	})
}

// carry notes which chain the unit's next run goes on, if nothing but the hits made
// it act.
func (e *Engine) carry(u *unit, c chain) {
	a := u.pending
	if a == nil {
		return
	}
	a.chain = c
	if c.links == lookoutLinks {
		wait := min(max(2*c.after, leastLookout), mostLookout)
		a.lookout = e.now.Add(wait)
		e.setTimer(u, lookoutOver, wait)
	}
}

// cleared ends the suspicion that a writing was the unit's own, and what followed
// from that.
func (e *Engine) cleared(ev Cleared) {
	for _, name := range ev.Units {
		u := e.byName[name]
		if u == nil {
			continue
		}
		if u.isTouched(ev.Burst) {
			u.stir(ev.Burst).suspect = false
		}
		if u.run != nil && u.run.chain.burst == ev.Burst {
			u.run.chain = chain{}
		}
		if u.pending != nil && u.pending.chain.burst == ev.Burst {
			u.pending.chain = chain{}
		}
		e.lookoutEnds(u)
	}
	if r := e.ripples.latestOfBurst(ev.Burst); r != nil && !r.saved {
		e.save(r)
	}
}

// lookoutEnds lets a unit act at once: somebody else has written what makes it run.
func (e *Engine) lookoutEnds(u *unit) {
	if a := u.pending; a != nil && !a.lookout.IsZero() {
		a.lookout, a.chain = time.Time{}, chain{}
		e.enqueue(u)
	}
}

// ignoreOwn stops reacting to the files that a unit's runs write themselves.
func (e *Engine) ignoreOwn(u *unit, c chain) {
	for _, f := range c.files {
		if !slices.Contains(u.own, f) {
			u.own = append(u.own, f)
		}
	}
	u.ownTaken = false
	u.run.chain = chain{} // whatever else is written needs proof of its own
	e.give(IgnoreFiles{u.spec.Name, slices.Clone(u.own)})
	e.tellRun(u, TellNote, ToneStale, "writes what makes it "+u.verb()+": "+List(c.files)+"; its changes are ignored from now on")
}

func (u *unit) verb() string { return strings.TrimSuffix(u.spec.Verb(), "s") }

// forgetOwn forgets that files are a unit's own, because a person says so or the
// settings do.
func (e *Engine) forgetOwn(u *unit) {
	if len(u.own) > 0 {
		u.own = nil
		e.give(IgnoreFiles{Unit: u.spec.Name})
	}
}

// withoutOwn returns the hits without those that units are left out of. A unit that
// has no others is as if its files had not been touched.
func (e *Engine) withoutOwn(ev Change) []Hit {
	var keep []Hit
	for _, hits := range byUnit(ev.Hits) {
		u := e.byName[hits[0].Unit]
		if u == nil || len(u.own) == 0 {
			keep = append(keep, hits...)
			continue
		}
		others := slices.DeleteFunc(slices.Clone(hits), func(h Hit) bool { return slices.Contains(u.own, h.Path) })
		if keep = append(keep, others...); len(others) == 0 {
			e.untouchBy(u, ev.Burst)
		}
	}
	return keep
}

// untouchBy makes a unit as if a burst had not touched it.
func (e *Engine) untouchBy(u *unit, burst int) {
	u.rest(burst)
	u.untouch(burst)
	e.enqueue(u)
}

func (u *unit) lookoutWords() string {
	return "waits a moment: it may have written " + List(u.pending.chain.files) + " itself"
}

// ownWords names the units whose loops the person has not taken note of yet.
func (e *Engine) ownWords() string {
	for _, u := range e.inFileOrder() {
		if len(u.own) > 0 && !u.ownTaken {
			return "; " + u.spec.Name + " writes what makes it " + u.verb() + ", which is ignored"
		}
	}
	return ""
}
