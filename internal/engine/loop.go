package engine

import (
	"path"
	"slices"
	"time"
)

// Units whose runs write files that affect them would run endlessly, whether a unit sets itself off or two units set
// off each other. The engine concludes that from a chain of runs, each set off only by what the one before may have
// written, or by its having finished. A unit that such a chain comes back to in the same way has gone round once: by
// the same writer, at a similar time of its life, with files of the same directory. After two rounds the engine waits
// for a moment before it acts (the lookout): a user who saves often saves again, which decides it. The third time the
// files are ignored.

// chain is such a chain, oldest link first.
type chain []link

// link is a unit that was set off.
type link struct {
	unit  *unit
	by    []source // one of these, if there are several candidates
	burst int      // of its writes; 0: the unit follows it
	files []string // what it wrote
}

// source is a unit that may have set off another one.
type source struct {
	unit  *unit
	after time.Duration // the time of the write after the start of its process or pass
}

// Rounds. A user who saves twice while a unit is running looks like two rounds, so two are no proof; the third
// follows a lookout in which a user who saves often saves again.
const (
	lookoutRounds = 2 // after so many, the unit waits for other writers
	loopRounds    = 3 // after so many, it is a loop
)

// The lookout lasts twice as long as the run took to write, within these limits. Both are choices: a user who is
// taken for a loop saves about as often as the unit runs, but rarely more than once a second, and a user who has
// saved only once should not wait for more than five seconds.
const (
	minLookout = time.Second
	maxLookout = 5 * time.Second
)

// Two runs wrote at similar times of their lives if the times differ by less than likeTime, or by less than the
// factor likeFactor. Both are choices: the first build of a loop fills caches and takes longer than the next ones. If
// it takes even longer than this, the loop is noticed one round later.
const (
	likeTime   = 500 * time.Millisecond
	likeFactor = 3
)

// rounds is how often the chain has come to a unit in the same way as the last time.
func (c chain) rounds(u *unit) int {
	var same []link // newest first
	for i := len(c) - 1; i >= 0; i-- {
		if c[i].unit != u {
			continue
		}
		if n := len(same); n > 0 && !c[i].like(same[n-1]) {
			break
		}
		same = append(same, c[i])
	}
	if len(same) > 2 && shareFile(same[2].files, same[1].files) && !shareFile(same[1].files, same[0].files) {
		return 1 // it wrote the same files each time, but not the last time
	}
	return len(same)
}

// burst is the burst of the newest link; 0: there is none.
func (c chain) burst() int {
	if len(c) == 0 {
		return 0
	}
	return c[len(c)-1].burst
}

// lastRound returns the links from a unit back to it.
func (c chain) lastRound(u *unit) chain {
	for i := len(c) - 2; i >= 0; i-- {
		if c[i].unit == u {
			return c[i+1:]
		}
	}
	return c
}

// longestChain is enough to notice a loop of thirty units.
const longestChain = 100

// with returns the chain with one more link. Of all candidates that may have set it off, those remain that may have
// done so the last time.
func (c chain) with(l link) chain {
	for i := len(c) - 1; i >= 0; i-- {
		if c[i].unit == l.unit {
			if both := l.shared(c[i]); len(both) > 0 {
				l.by = both
			}
			break
		}
	}
	return append(slices.Clip(c[max(len(c)+1-longestChain, 0):]), l)
}

// like reports whether two links may have the same cause.
func (l link) like(other link) bool {
	if l.burst == 0 || other.burst == 0 {
		return l.burst == other.burst // whichever of the followed units was first
	}
	return len(l.shared(other)) > 0 && shareFolder(l.files, other.files)
}

// shared returns the sources that may have set off both, at a similar time of their lives.
func (l link) shared(other link) []source {
	return slices.DeleteFunc(slices.Clone(l.by), func(s source) bool {
		return !slices.ContainsFunc(
			other.by,
			func(o source) bool { return o.unit == s.unit && alike(o.after, s.after) },
		)
	})
}

// mayBeBy reports whether the unit may have set it off.
func (l link) mayBeBy(u *unit) bool {
	return slices.ContainsFunc(l.by, func(s source) bool { return s.unit == u })
}

// alike reports whether two runs may have written for the same reason.
func alike(a, b time.Duration) bool {
	less, more := min(a, b), max(a, b)
	return more-less < likeTime || more < likeFactor*less
}

func shareFolder(a, b []string) bool { return shareAny(a, b, path.Dir) }

func shareFile(a, b []string) bool {
	return shareAny(a, b, func(file string) string { return file })
}

func shareAny(a, b []string, what func(file string) string) bool {
	has := map[string]bool{}
	for _, file := range a {
		has[what(file)] = true
	}
	return slices.ContainsFunc(b, func(file string) bool { return has[what(file)] })
}

// chainTo returns the chain that the unit's act on these files would continue: of the chains of all possible writers,
// the one that has come to it most often.
func (w *writing) chainTo(files []string) chain {
	if w == nil || !w.mayLink() {
		return nil
	}
	u := w.unit
	l := link{unit: u, burst: w.burst, files: files}
	var chains []chain // its own before those of others
	for i := range w.writers {
		if wr := &w.writers[i]; !wr.cleared && (wr.unit == u || wr.seen) {
			l.by = append(l.by, source{wr.unit, wr.after})
			if chains = append(chains, wr.chain()); wr.unit == u {
				chains[0], chains[len(chains)-1] = chains[len(chains)-1], chains[0]
			}
		}
	}
	var best chain
	for _, c := range chains {
		if c = c.with(l); c.rounds(u) > best.rounds(u) {
			best = c
		}
	}
	return best
}

// mayLink reports whether a write may continue a chain.
func (w *writing) mayLink() bool {
	return slices.ContainsFunc(w.writers, func(wr writer) bool { return !wr.cleared && (wr.unit == w.unit || wr.seen) })
}

// chain is the chain that set the writer off.
func (wr writer) chain() chain {
	if wr.unit.spec.Pass != nil {
		return wr.unit.passes.chain
	}
	return wr.run.chain
}

// carry records which chain the unit's next run continues, if it has no other reason to act.
func (e *Engine) carry(u *unit, c chain) {
	a := u.pending
	if a == nil {
		return
	}
	a.chain = c
	if len(c) > 0 && c.burst() != 0 && c.rounds(u) == lookoutRounds {
		wait := min(max(2*c[len(c)-1].by[0].after, minLookout), maxLookout)
		a.lookout = e.now.Add(wait)
		e.setTimer(u, lookoutOver, wait)
	}
}

// follow lets a unit act because a unit that it follows has finished again. If it has no other reason to act, its run
// continues the chain.
func (e *Engine) follow(f, u *unit, r *Ripple) {
	c := writer{unit: u, run: u.run}.chain()
	if len(c) > 0 {
		c = c.with(link{unit: f, by: []source{{unit: u}}})
	}
	if a := f.pending; a != nil && len(a.reasons) > 0 {
		switch before := a.chain; {
		case len(before) == 0 || before.burst() != 0:
			c = nil
		case len(before) > len(c):
			c = before
		}
	}
	e.intend(f, r, Reason{Kind: ReasonFollowed, Unit: u.spec.Name, Ends: u.ends()}).chain = c
}

// reconsider takes back the consequences of assuming that a unit was the writer.
func (e *Engine) reconsider(w *writing) {
	u := w.unit
	e.show(u)
	renew := func(c chain) chain {
		if c.burst() != w.burst {
			return c
		}
		return w.chainTo(c[len(c)-1].files)
	}
	if u.run != nil {
		u.run.chain = renew(u.run.chain)
	}
	u.passes.chain = renew(u.passes.chain)
	if a := u.pending; a != nil && a.chain.burst() == w.burst {
		if a.chain = renew(a.chain); a.chain.rounds(u) < lookoutRounds {
			e.lookoutEnds(u)
		}
	}
}

// lookoutEnds lets a unit act at once: another writer has written what makes it run.
func (e *Engine) lookoutEnds(u *unit) {
	if a := u.pending; a != nil && !a.lookout.IsZero() {
		a.lookout, a.chain = Moment{}, nil
		e.enqueue(u)
	}
}

// Loop is a loop that was stopped: what set a unit off repeatedly is now ignored.
type Loop struct {
	Files []string   // whose changes are ignored
	Round []LoopLink // the units, from this unit back to it
	Noted bool       // the user has accepted it
}

// LoopLink is a unit that was set off by another one.
type LoopLink struct {
	By    []string // one of these, if it is unknown which
	Unit  string
	Files []string // what By wrote; empty: Unit follows By
	Does  string   // what Unit did then: "restarts"
}

// Alone reports whether the unit sets itself off.
func (l *Loop) Alone() bool {
	return len(l.Round) == 1 && len(l.Round[0].By) == 1 && l.Round[0].By[0] == l.Round[0].Unit
}

// stopLoop ignores what sets a unit off repeatedly, and returns the other hits.
func (e *Engine) stopLoop(u *unit, c chain, hits []Hit) []Hit {
	round := c.lastRound(u)
	files := round[len(round)-1].files
	if before := c[len(c)-1-len(round)].files; shareFile(before, files) {
		has := map[string]bool{}
		for _, f := range before {
			has[f] = true
		}
		files = slices.DeleteFunc(slices.Clone(files), func(f string) bool { return !has[f] })
	}
	e.ignore(u, files, round)
	u.run.chain = nil // other writes need proof of their own
	return u.notIgnored(hits)
}

// ignore makes a unit ignore files that set it off in a loop.
func (e *Engine) ignore(u *unit, files []string, round chain) {
	l := &Loop{Files: slices.Clone(files)}
	if u.loop != nil {
		l.Files = slices.Clone(u.loop.Files)
		for _, f := range files {
			if !slices.Contains(l.Files, f) {
				l.Files = append(l.Files, f)
			}
		}
	}
	for _, link := range round {
		var by []string
		for _, s := range link.by {
			by = append(by, s.unit.spec.Name)
		}
		l.Round = append(
			l.Round,
			LoopLink{by, link.unit.spec.Name, link.files, link.unit.spec.Verb()},
		)
	}
	u.loop = l
	e.emit(IgnoreFiles{u.spec.Name, slices.Clone(l.Files)})
	f := Fact{Kind: FactLoopStopped, Loop: l, Files: files}
	if !u.takesUp() || u.missedResults == 0 {
		f.Verb = u.spec.Verb()
	}
	e.tellRun(u, f)
}

// reactAgain stops ignoring files, because a user says so or the settings do.
func (e *Engine) reactAgain(u *unit) {
	if u.loop != nil {
		u.loop = nil
		e.emit(IgnoreFiles{Unit: u.spec.Name})
	}
}

// notIgnored returns the unit's hits that are not ignored.
func (u *unit) notIgnored(hits []Hit) []Hit {
	if u.loop == nil {
		return hits
	}
	ignored := map[string]bool{}
	for _, f := range u.loop.Files {
		ignored[f] = true
	}
	return slices.DeleteFunc(slices.Clone(hits), func(h Hit) bool { return h.More == 0 && ignored[h.Path] })
}

// untouchBy undoes that a burst has touched a unit.
func (e *Engine) untouchBy(u *unit, burst int) {
	u.rest(burst)
	u.untouch(burst)
	e.enqueue(u)
}

// lookout returns the lookout that a unit waits for; zero: none.
func (u *unit) lookout() Wait {
	w := Wait{Kind: WaitLookout}
	if round := u.pending.chain.lastRound(u); len(round) > 0 {
		last := round[len(round)-1]
		if w.Files = last.files; !last.mayBeBy(u) {
			w.On = last.by[0].unit.spec.Name
		}
	}
	return w
}
