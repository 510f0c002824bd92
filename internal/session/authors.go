package session

import (
	"sync"
	"time"

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
	soundAge    = 100 * time.Millisecond
	keptSamples = 4
	// youth is how long a run is looked at often: what a start writes, it writes
	// soon.
	youth = 30 * time.Second
)

func (a *authors) add(t traces) {
	a.mu.Lock()
	defer a.mu.Unlock()
	if a.samples = append(a.samples, t); len(a.samples) > keptSamples {
		a.samples = a.samples[1:]
	}
}

// before returns the newest sample that is old enough.
func (a *authors) before(now time.Time) traces {
	a.mu.Lock()
	defer a.mu.Unlock()
	for i := len(a.samples) - 1; i >= 0; i-- {
		if now.Sub(a.samples[i].at) >= soundAge {
			return a.samples[i]
		}
	}
	return traces{}
}

// sample notes what runs have written by now.
func (s *Session) sample(now time.Time) {
	if of, can := s.spawner.Traces(s.root); can {
		s.authors.add(traces{now, of})
	}
}

// anyYoung reports whether a run has begun not long ago.
func (s *Session) anyYoung(now time.Time) bool {
	for _, u := range s.Snapshot().Units {
		if u.Run.Number > 0 && now.Sub(u.Run.OrderedAt) < youth {
			return true
		}
	}
	return false
}

// elsewhere returns those of the units whose own run has not written what was
// written just now. Where the system does not tell, services are believed: it is
// better to miss a loop than to leave out what a person saves.
func (s *Session) elsewhere(now time.Time, units []string) []string {
	all, can := s.spawner.Traces(s.root)
	earlier := s.authors.before(now).of
	var innocent []string
	for _, name := range units {
		unit, run := s.plan.Unit(name), s.live[name]
		if unit == nil || run == nil {
			continue
		}
		p := run.spawned()
		then, known := earlier[p]
		switch {
		case p == nil:
		case !can && unit.Kind == plan.Service, known && all[p] == then:
			innocent = append(innocent, name)
		}
	}
	return innocent
}
