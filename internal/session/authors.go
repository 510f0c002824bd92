package session

import (
	"slices"
	"sync"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/spawn"
)

// authors remembers what traces runs left of writing files, so that a save can be
// told not to be theirs.
type authors struct {
	mu      sync.Mutex
	samples []traces // the last few, oldest first
}

type traces struct {
	at time.Time
	of map[*spawn.Process]spawn.Trace
}

const (
	// soundAge is how old a sample must be to be surely from before a write that
	// is heard of now.
	soundAge    = 10 * time.Millisecond
	keptSamples = 50
	// What a start writes, it writes soon: runs are looked at often in their youth,
	// and very often while they are under suspicion.
	youth        = 30 * time.Second
	closeLook    = 10 * time.Millisecond
	normalLook   = 200 * time.Millisecond
	seldomLook   = 2 * time.Second
	closeLookFor = 10 * time.Second
)

func (a *authors) add(t traces) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.samples = append(a.samples, t); len(a.samples) > keptSamples {
		a.samples = slices.Delete(a.samples, 0, 1)
	}
}

// before returns the trace of a process from before what is heard of now, which is
// nothing for one that is younger than that, and whether the process writes all the
// time, so that its trace says nothing.
func (a *authors) before(now time.Time, p *spawn.Process) (trace spawn.Trace, busy bool) {
	a.mu.Lock()
	defer a.mu.Unlock()
	const enough = 10
	seen, changes, last := 0, 0, spawn.Trace(0)
	for i := len(a.samples) - 1; i >= 0; i-- {
		s := a.samples[i]
		t, there := s.of[p]
		if !there || now.Sub(s.at) < soundAge {
			continue
		}
		if seen == 0 {
			trace = t
		} else if t != last {
			changes++
		}
		last = t
		seen++
	}
	return trace, seen >= enough && changes > seen/3
}

// followAuthors samples what runs have written until the session is over.
func (s *Session) followAuthors() {
	changed, stop := s.Changed()
	defer stop()
	var last time.Time
	for {
		now := time.Now()
		pause := s.untilNextLook(now) - now.Sub(last)
		if pause <= 0 {
			of, can := s.tracer.Traces(s.root)
			if !can {
				return
			}
			last = time.Now() // all that was read is from before
			s.authors.add(traces{last, of})
			continue
		}
		select {
		case <-time.After(pause):
		case <-changed: // a run may have begun that has to be looked at sooner
		case <-s.stopped:
			return
		}
	}
}

func (s *Session) untilNextLook(now time.Time) time.Duration {
	pause := seldomLook
	for _, u := range s.Snapshot().Units {
		age := now.Sub(u.Run.OrderedAt)
		switch {
		case u.Run.Number == 0 || !u.Run.EndedAt.IsZero():
		case u.Suspect && age < closeLookFor:
			return closeLook
		case age < youth:
			pause = normalLook
		}
	}
	return pause
}

// aftermath is how long after the first that is heard of a write it is surely done:
// a file is emptied before it is written.
const aftermath = 25 * time.Millisecond

// clear finds out which of the units' own runs have not written what was touched
// just now, and tells the engine when it knows.
func (s *Session) clear(now time.Time, burst int, units []string) {
	var innocent []func() bool
	var names []string
	for _, name := range units {
		if unit, run := s.plan.Unit(name), s.live[name]; unit != nil && run != nil && run.spawned() != nil {
			names, innocent = append(names, name), append(innocent, s.alibi(now, run))
		}
	}
	if len(names) == 0 {
		return
	}
	time.AfterFunc(aftermath, func() {
		var cleared []string
		for i, name := range names {
			if innocent[i]() {
				cleared = append(cleared, name)
			}
		}
		if len(cleared) > 0 {
			s.send(engine.Cleared{Burst: burst, Units: cleared})
		}
	})
}

// anySuspect reports whether it has to be clear who wrote before one of the units
// acts.
func (s *Session) anySuspect(hits []engine.Hit) bool {
	snap := s.Snapshot()
	return slices.ContainsFunc(hits, func(h engine.Hit) bool {
		u := snap.Unit(h.Unit)
		return u != nil && u.Suspect
	})
}

// alibi returns a function that says later whether a run has written nothing since
// before now. Where that cannot be told, services are believed: it is better to
// miss a loop than to leave out what a person saves.
func (s *Session) alibi(now time.Time, run *liveRun) func() bool {
	if s.tracer == nil {
		return func() bool { return run.unit.Kind == plan.Service }
	}
	p, _ := run.spawned().(*spawn.Process)
	then, busy := s.authors.before(now, p)
	wroteNothing := func() bool {
		all, can := s.tracer.Traces(s.root)
		if run.unit.Kind == plan.Service && (!can || busy && now.Sub(run.began) > bustle) {
			return true
		}
		trace, seen := all[p]
		if !seen {
			trace, seen = p.Wrote(s.root)
		}
		return seen && trace <= then
	}
	return func() bool {
		// What a run has said and nobody has read yet looks as if it had been written to
		// a file: on a busy machine it takes a moment until it is read.
		const tries, pause = 5, 4 * time.Millisecond
		for range tries {
			if wroteNothing() {
				return true
			}
			time.Sleep(pause)
		}
		return false
	}
}

// bustle is how long a start may write a lot without being taken for a service that
// always does.
const bustle = 3 * time.Second
