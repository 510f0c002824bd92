package session

import (
	"slices"
	"sync"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/process"
)

// traceLog remembers what traces runs left of writing files, so that it can be told
// whether one has written anything since just before a save.
type traceLog struct {
	mu      sync.Mutex
	samples []traces // the last few, oldest first
}

type traces struct {
	at time.Time
	of map[*process.Process]process.Trace
}

const (
	// soundAge is how old a sample must be to be surely from before a write that
	// is heard of now.
	soundAge    = 10 * time.Millisecond
	keptSamples = 50
	// What a start writes, it writes soon: runs are looked at often in their youth,
	// and very often while they are under suspicion.
	youth        = 30 * time.Second
	closeLook    = 20 * time.Millisecond
	normalLook   = 200 * time.Millisecond
	seldomLook   = 2 * time.Second
	closeLookFor = 10 * time.Second
)

func (l *traceLog) add(t traces) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.samples = append(l.samples, t); len(l.samples) > keptSamples {
		l.samples = slices.Delete(l.samples, 0, 1)
	}
}

// before returns the trace of a process from before what is heard of now, which is
// nothing for one that is younger than that, when it was taken, and whether the process
// writes all the time, so that its trace says nothing.
func (l *traceLog) before(now time.Time, p *process.Process) (trace process.Trace, at time.Time, busy bool) {
	l.mu.Lock()
	defer l.mu.Unlock()
	const enough = 10
	seen, changes, last := 0, 0, process.Trace(0)
	for i := len(l.samples) - 1; i >= 0; i-- {
		s := l.samples[i]
		t, there := s.of[p]
		if !there || now.Sub(s.at) < soundAge {
			continue
		}
		if seen == 0 {
			trace, at = t, s.at
		} else if t != last {
			changes++
		}
		last = t
		seen++
	}
	return trace, at, seen >= enough && changes > seen/3
}

// followWriting samples what runs have written until the session is over.
func (s *Session) followWriting() {
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
			s.traces.add(traces{last, of})
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
	for _, u := range s.state().Units {
		age := now.Sub(s.time(u.Run.OrderedAt))
		switch {
		case u.Run.Number == 0 || !u.Run.EndedAt.IsZero():
		case u.MayLoop && age < closeLookFor:
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

// observe tells the engine, when it can, what runs have written.
func (l *loop) observe(o engine.Observe) {
	looks := make([]*look, len(o.Runs))
	for i, id := range o.Runs {
		looks[i] = l.lookAt(l.time(o.Noticed), id)
	}
	s := l.Session // the loop goes on meanwhile
	time.AfterFunc(aftermath, func() {
		// What a run has said and that has not been read yet looks as if it had been written to
		// a file: on a busy machine it takes a moment until it is read.
		const tries, pause = 5, 4 * time.Millisecond
		for try := range tries {
			if s.lookAgain(looks); try == tries-1 || !slices.ContainsFunc(looks, (*look).mayChange) {
				break
			}
			time.Sleep(pause)
		}
		seen := engine.Observed{Burst: o.Burst, Units: o.Units}
		for _, l := range looks {
			l.Span = max(time.Since(l.since), 0)
			seen.Runs = append(seen.Runs, l.Observation)
		}
		s.send(seen)
	})
}

// look is what is seen of a run's writing.
type look struct {
	engine.Observation
	process *process.Process // nil where nothing can be seen
	then    process.Trace
	since   time.Time
	always  bool
}

func (l *look) mayChange() bool { return l.process != nil && l.Wrote == engine.WroteSomething }

// lookAt begins to look at a run.
func (l *loop) lookAt(noticed time.Time, id engine.RunID) *look {
	at := &look{Observation: engine.Observation{Unit: id.Unit, Run: id.Run}, since: noticed}
	live := l.live[id.Unit]
	if live == nil || live.Number != id.Run || l.tracer == nil {
		return at
	}
	if at.process, _ = live.Process().(*process.Process); at.process == nil {
		return at
	}
	var since time.Time
	if at.then, since, at.always = l.traces.before(noticed, at.process); !since.IsZero() {
		at.since = since
	}
	at.always = at.always && noticed.Sub(live.Began) > bustle
	return at
}

// lookAgain sees what was written by now.
func (s *Session) lookAgain(looks []*look) {
	if s.tracer == nil {
		return
	}
	now := time.Now()
	all, can := s.tracer.Traces(s.root)
	if can {
		s.traces.add(traces{now, all})
	}
	for _, l := range looks {
		if l.process == nil {
			continue
		}
		trace, seen := all[l.process]
		if !seen {
			trace, seen = l.process.Wrote(s.root)
		}
		switch {
		case seen && trace <= l.then:
			l.Wrote = engine.WroteNothing
		case l.always:
			l.Wrote = engine.WroteAlways
		case seen:
			l.Wrote = engine.WroteSomething
		}
	}
}

// bustle is how long a start may write a lot without being taken for a run that always does.
const bustle = 3 * time.Second
