// Package writers observes what the processes of runs have written, as far as the system tells, so that the engine
// can decide who changed a file. It decides nothing. Start reading at Observer.LookAt and Observer.Observed.
package writers

import (
	"slices"
	"sync"
	"time"

	"omnivigil/internal/engine"
	"omnivigil/internal/process"
	"omnivigil/internal/session/run"
)

// traceLog keeps the recent traces of runs, to tell whether a run has written anything since just before a save.
type traceLog struct {
	mu      sync.Mutex
	samples []traces // the last few, oldest first
}

type traces struct {
	at time.Time
	of map[*process.Process]process.Trace
}

const (
	// soundAge is the minimum age of a sample that is certainly from before a write that is reported now.
	soundAge    = 10 * time.Millisecond
	keptSamples = 50
	// A starting process writes soon: runs are sampled often at first, and very often while they are suspected.
	startup      = 30 * time.Second
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

// before returns the trace of a process from before what is reported now (none for a process that started later),
// when it was taken, and whether the process writes all the time, so that its trace tells nothing.
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

// Observer observes what runs have written. Its methods may be called from any goroutine. Those that query the system
// block meanwhile.
type Observer struct {
	tracer *process.Spawner // nil: nothing can be observed
	root   string
	traces traceLog
}

// New returns an observer of the processes of a spawner, and of what they write below root. Tracer may be nil.
func New(tracer *process.Spawner, root string) *Observer {
	return &Observer{tracer: tracer, root: root}
}

// Host is what an observer needs of its session.
type Host interface {
	State() *engine.Snapshot
	Changed() (<-chan struct{}, func()) // a channel that has a value when a run may have started, until the function is called
	Time(m engine.Moment) time.Time
	Stopped() <-chan struct{} // closed when the session is over
}

// Follow samples runs until the session is over. It blocks.
func (o *Observer) Follow(h Host) {
	changed, stop := h.Changed()
	defer stop()
	var last time.Time
	for {
		now := time.Now()
		pause := untilNextLook(h, now) - now.Sub(last)
		if pause <= 0 {
			of, can := o.tracer.Traces(o.root)
			if !can {
				return
			}
			last = time.Now() // everything read is from before
			o.traces.add(traces{last, of})
			continue
		}
		select {
		case <-time.After(pause):
		case <-changed: // a run may have started that must be sampled sooner
		case <-h.Stopped():
			return
		}
	}
}

func untilNextLook(h Host, now time.Time) time.Duration {
	pause := seldomLook
	for _, u := range h.State().Units {
		age := now.Sub(h.Time(u.Run.OrderedAt))
		switch {
		case u.Run.Number == 0 || !u.Run.EndedAt.IsZero():
		case u.MayLoop && age < closeLookFor:
			return closeLook
		case age < startup:
			pause = normalLook
		}
	}
	return pause
}

// Look is an observation of a run.
type Look struct {
	engine.Observation
	process *process.Process // nil: nothing can be observed
	then    process.Trace
	since   time.Time
	always  bool
}

func (l *Look) mayChange() bool { return l.process != nil && l.Wrote == engine.WroteSomething }

// LookAt starts observing a run, as of the time when something was noticed; live is nil if the run is over. It does
// not block.
func (o *Observer) LookAt(noticed time.Time, id engine.RunID, live *run.Live) *Look {
	at := &Look{Observation: engine.Observation{Unit: id.Unit, Run: id.Run}, since: noticed}
	if live == nil || o.tracer == nil {
		return at
	}
	if at.process, _ = live.Process().(*process.Process); at.process == nil {
		return at
	}
	var since time.Time
	if at.then, since, at.always = o.traces.before(noticed, at.process); !since.IsZero() {
		at.since = since
	}
	at.always = at.always && noticed.Sub(live.Began) > bustle
	return at
}

// LookAgain records what was written by now.
func (o *Observer) LookAgain(looks []*Look) {
	if o.tracer == nil {
		return
	}
	now := time.Now()
	all, can := o.tracer.Traces(o.root)
	if can {
		o.traces.add(traces{now, all})
	}
	for _, l := range looks {
		if l.process == nil {
			continue
		}
		trace, seen := all[l.process]
		if !seen {
			trace, seen = l.process.Wrote(o.root)
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

// bustle is how long a start may write a lot without counting as a run that always does.
const bustle = 3 * time.Second

// aftermath is how long after its first event a write has certainly ended: a file is truncated before it is written.
const aftermath = 25 * time.Millisecond

// Observed waits for a moment and returns what runs have written by then. It blocks.
func (o *Observer) Observed(looks []*Look) []engine.Observation {
	time.Sleep(aftermath)
	// Output of a run that has not been read yet looks like a write to a file: on a busy machine it takes a moment
	// until it is read.
	const tries, pause = 5, 4 * time.Millisecond
	for try := range tries {
		if o.LookAgain(looks); try == tries-1 || !slices.ContainsFunc(looks, (*Look).mayChange) {
			break
		}
		time.Sleep(pause)
	}
	seen := make([]engine.Observation, len(looks))
	for i, l := range looks {
		l.Span = max(time.Since(l.since), 0)
		seen[i] = l.Observation
	}
	return seen
}
