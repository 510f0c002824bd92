// Package session makes a plan into a running project: it feeds the engine with
// what happens and carries out what it orders.
//
// One goroutine, the loop, owns the engine. Everything else (watching, reading
// processes, probing, timers, faces) sends it events and never waits for it
// longer than a channel takes. Faces read immutable snapshots and the logbook,
// and send wishes; a face that is slow or dead slows nothing down.
package session

import (
	"fmt"
	"io"
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"omnivigil/internal/concern"
	"omnivigil/internal/engine"
	"omnivigil/internal/logbook"
	"omnivigil/internal/mask"
	"omnivigil/internal/plan"
	"omnivigil/internal/recording"
	"omnivigil/internal/spawn"
	"omnivigil/internal/watch"
)

// Config is what a session starts from.
type Config struct {
	Plan  *plan.Plan
	Units []string // what to start; none means all that start by themselves
	Logs  string   // folder for the logbook, made by Start
	State string   // folder for what has to be remembered
	// Record, if set, gets a recording of all that happens and is decided.
	Record io.Writer
}

// Session is a running project. Its methods may be called from any goroutine.
type Session struct {
	book    *logbook.Book
	root    string   // the project's folder
	state   string   // folder for what has to be remembered
	marks   []string // variables by which all its processes are known
	events  chan timedEvent
	done    chan struct{}
	stopped chan struct{} // closed when senders should no longer try

	snapshot  atomic.Pointer[engine.Snapshot]
	shownPlan atomic.Pointer[plan.Plan]
	uses      atomic.Pointer[map[string]Use]
	hidden    atomic.Pointer[mask.Mask]
	authors   authors

	mu   sync.Mutex
	subs map[chan struct{}]bool

	// Owned by the loop.
	plan     *plan.Plan
	edited   *plan.Plan   // a new plan whose files are not watched yet
	edits    int          // how many there have been
	first    engine.Event // what begins the project, until its files are watched
	engine   *engine.Engine
	recorder *recording.Recorder // nil where nothing is recorded
	watcher  *watch.Watcher
	spawner  *spawn.Spawner
	live     map[string]*liveRun
	leftOut  map[string][]string // files that units do not react to, for this session
	left     bool
}

// timedEvent is an event with its time.
type timedEvent struct {
	at    time.Time
	event engine.Event
}

// Start runs the project. The session goes on until a wish to leave has been
// carried out; Done tells.
func Start(c Config) (*Session, error) {
	book, err := logbook.Open(c.Logs)
	if err != nil {
		return nil, err
	}
	watcher, err := watch.Open(c.Plan.Root)
	if err != nil {
		book.Close()
		return nil, err
	}
	s := &Session{
		plan: c.Plan, book: book, watcher: watcher, root: c.Plan.Root, state: c.State, marks: spawn.Marks(c.Plan.File),
		events: make(chan timedEvent, 256), done: make(chan struct{}), stopped: make(chan struct{}),
		subs: map[chan struct{}]bool{}, live: map[string]*liveRun{}, leftOut: map[string][]string{},
		engine: engine.New(c.Plan), spawner: spawn.New(),
	}
	s.hide(c.Plan)
	if c.Record != nil {
		if s.recorder, err = recording.NewRecorder(s.masked(c.Record), c.Plan); err != nil {
			return nil, fmt.Errorf("write the recording: %w", err)
		}
	}
	s.snapshot.Store(s.engine.Snapshot())
	s.shownPlan.Store(c.Plan)
	s.watchFor(c.Plan)
	go s.loop(engine.Begin{Units: c.Units})
	go s.survey()
	go s.followAuthors()
	return s, nil
}

// Plan returns what the session runs at the moment.
func (s *Session) Plan() *plan.Plan { return s.shownPlan.Load() }

// Snapshot returns the project as it is now.
func (s *Session) Snapshot() *engine.Snapshot { return s.snapshot.Load() }

// Log returns everything that was written.
func (s *Session) Log() *logbook.Book { return s.book }

// Done is closed when everything has ended after a wish to leave.
func (s *Session) Done() <-chan struct{} { return s.done }

// Note writes a line of Omnivigil's own into the log.
func (s *Session) Note(text string) { s.book.Append(logbook.Entry{Stream: logbook.Note}, text) }

// Request asks for something. Unit is empty for wishes about the whole project.
func (s *Session) Request(w engine.Request, unit string) {
	s.send(engine.Requested{Request: w, Unit: unit})
}

// Changed returns a channel that has a value whenever the snapshot is a new one,
// and a function that ends this.
func (s *Session) Changed() (<-chan struct{}, func()) {
	c := make(chan struct{}, 1)
	s.mu.Lock()
	s.subs[c] = true
	s.mu.Unlock()
	return c, func() {
		s.mu.Lock()
		delete(s.subs, c)
		s.mu.Unlock()
	}
}

func (s *Session) send(ev engine.Event) {
	select {
	case s.events <- timedEvent{time.Now(), ev}:
	case <-s.stopped:
	}
}

// loop is the one goroutine in which everything is decided. It begins when all
// files are watched, so that no process reads a file whose change would be missed.
func (s *Session) loop(first engine.Event) {
	s.first = first
	for !s.left {
		s.publish()
		select {
		case h := <-s.events:
			s.step(h.at, h.event)
		case ev, ok := <-s.watcher.Events():
			if ok {
				s.watched(ev)
			}
		}
		s.drain()
	}
	close(s.stopped)
	s.watcher.Close()
	s.publish()
	close(s.done)
}

// drain steps through what else has come, so that one snapshot serves for all.
func (s *Session) drain() {
	for range cap(s.events) {
		select {
		case h := <-s.events:
			s.step(h.at, h.event)
		case ev, ok := <-s.watcher.Events():
			if !ok {
				return
			}
			s.watched(ev)
		default:
			return
		}
	}
}

func (s *Session) publish() {
	s.snapshot.Store(s.engine.Snapshot())
	s.notify()
}

// notify tells those who asked that there is something new to see.
func (s *Session) notify() {
	s.mu.Lock()
	defer s.mu.Unlock()
	for c := range s.subs {
		select {
		case c <- struct{}{}:
		default:
		}
	}
}

// watched translates what the watcher tells into the engine's events.
func (s *Session) watched(ev watch.Event) {
	now := time.Now()
	switch ev := ev.(type) {
	case watch.Touched:
		if keys := withoutSettings(ev.Keys); len(keys) > 0 {
			s.step(now, engine.Touched{Burst: ev.Burst, Units: keys})
			s.clear(now, ev.Burst, keys)
		}
	case watch.Change:
		c := engine.Change{Burst: ev.Burst, Since: ev.Since}
		for _, h := range ev.Hits {
			if h.Key == concern.Settings {
				s.readSettings(now)
			} else if unit := s.plan.Unit(h.Key); unit != nil {
				c.Hits = append(c.Hits, concern.Hit(unit, h))
			}
		}
		switch {
		case len(c.Hits) == 0:
		case s.anySuspect(c.Hits):
			time.AfterFunc(2*aftermath, func() { s.send(c) })
		default:
			s.step(now, c)
		}
	case watch.Watching:
		if s.first != nil {
			first := s.first
			s.first = nil
			s.step(now, first)
		}
		if ev.Number == s.edits {
			s.adopt(now)
		}
	case watch.Unchanged:
		s.step(now, engine.Unchanged{Burst: ev.Burst, Units: ev.Keys})
	case watch.Notice:
		s.book.Append(logbook.Entry{Stream: logbook.Note, Tone: logbook.Stale}, ev.Text)
	}
}

// step lets the engine decide and carries out its orders.
func (s *Session) step(now time.Time, ev engine.Event) {
	ev = s.maskedEvent(ev)
	now = now.Round(0) // without the monotonic clock, as a recording has it
	orders := s.engine.Step(now, ev)
	if s.recorder != nil {
		if err := s.recorder.Step(now, ev, orders); err != nil {
			s.recorder = nil
			s.Note("the recording ends here: " + err.Error())
		}
	}
	for _, order := range orders {
		s.carryOut(order)
	}
}

func (s *Session) carryOut(order engine.Order) {
	switch o := order.(type) {
	case engine.Start:
		s.start(o)
	case engine.StopRun:
		if run := s.live[o.Unit]; run != nil && run.number == o.Run {
			run.stop(s, o.Name)
		}
	case engine.SendSignal:
		if run := s.live[o.Unit]; run != nil && run.number == o.Run {
			run.signal(s, o.Name)
		}
	case engine.SetTimer:
		time.AfterFunc(time.Until(o.At), func() { s.send(engine.TimerFired{Timer: o.Timer}) })
	case engine.Tell:
		s.tell(o)
	case engine.IgnoreFiles:
		s.leftOut[o.Unit] = o.Files
		if s.edited != nil {
			s.watchFor(s.edited)
		} else {
			s.watchFor(s.plan)
		}
	case engine.Finish:
		s.left = true
	}
}

// tell writes Omnivigil's own account into the log, among the output.
func (s *Session) tell(t engine.Tell) {
	stream, text := logbook.Note, t.Text
	switch t.Kind {
	case engine.TellRunOpens:
		stream = logbook.Opens
	case engine.TellRunEnds:
		stream = logbook.Ends
	case engine.TellRipple:
		text = fmt.Sprintf("ripple %d: %s", t.Ripple, t.Text)
	}
	s.book.Append(logbook.Entry{Unit: t.Unit, Run: t.Run, Stream: stream, Tone: logbook.Tone(t.Tone)}, strings.Split(text, "\n")...)
}

// start begins a run. Steps that come before it take their time, so they have a
// goroutine of their own.
func (s *Session) start(o engine.Start) {
	run := s.newRun(s.plan.Unit(o.Unit), o.Run)
	s.live[o.Unit] = run
	if len(run.unit.Setup)+len(run.unit.Prelude) > 0 {
		go run.prepare(s, o)
	} else {
		s.spawnRun(run, o)
	}
}

// spawnRun spawns the run's own process and tells the engine how that went.
func (s *Session) spawnRun(run *liveRun, o engine.Start) {
	if run.unit.Ready.Line != "" {
		run.line = regexp.MustCompile(run.unit.Ready.Line) // plan.Read has seen that it compiles
	}
	if held := s.taken(run); held != "" {
		go s.send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: held})
		return
	}
	spec := run.spec(s, o.Command)
	spec.Exited = func(x spawn.Exit) { run.exited(s, x) }
	process, err := s.spawner.Start(spec)
	// Told from another goroutine: the loop must never wait for its own channel.
	if err != nil {
		go s.send(engine.NotSpawned{Unit: o.Unit, Run: o.Run, Problem: err.Error()})
		return
	}
	run.have(process)
	go func() {
		s.send(engine.Spawned{Unit: o.Unit, Run: o.Run, PID: process.PID})
		close(run.announced)
		run.probe(s)
	}()
}

// environment is the machine's, with the unit's own variables above it.
func environment(u *plan.Unit, run int) []string {
	env := os.Environ()
	if term := os.Getenv("TERM"); term == "" || term == "dumb" {
		env = append(env, "TERM=xterm-256color")
	}
	for _, v := range u.Env {
		env = append(env, v.Name+"="+v.Value)
	}
	return append(env, "OMNIVIGIL_UNIT="+u.Name, fmt.Sprintf("OMNIVIGIL_RUN=%d", run))
}

// LogFolder names a folder for a new session's log below the state folder.
func LogFolder(state string, p *plan.Plan, now time.Time) string {
	return filepath.Join(state, "logs", filepath.Base(p.Root), now.Format("20060102-150405.000"))
}
