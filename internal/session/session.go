// Package session runs a project: it feeds events to the engine and carries out its orders.
//
// One goroutine, the loop, owns the engine and never blocks. Everything else (watching, reading processes, probing,
// timers, faces) sends it events. Faces read immutable snapshots and the logbook, and send requests; a slow or dead
// face slows nothing down. Start reading at loop.go, then run.go.
package session

import (
	"cmp"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"sync"
	"sync/atomic"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/recording"
	"omnivigil/internal/output/lens"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/redact"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/process/meter"
	"omnivigil/internal/session/account"
	"omnivigil/internal/session/changes"
	"omnivigil/internal/session/ended"
	recorder "omnivigil/internal/session/history"
	"omnivigil/internal/session/observation"
	"omnivigil/internal/session/outcomes"
	"omnivigil/internal/session/outputs"
	"omnivigil/internal/session/pages"
	"omnivigil/internal/session/run"
	"omnivigil/internal/session/sharing"
	"omnivigil/internal/session/survey"
	"omnivigil/internal/session/terminals"
	"omnivigil/internal/session/verdicts"
	"omnivigil/internal/session/writers"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/observed"
	"omnivigil/internal/store/reuse"
	"omnivigil/internal/store/setup"
	"omnivigil/internal/store/share"
	"omnivigil/internal/watch"
	"omnivigil/internal/watch/pattern"
)

// Config is the configuration of a session.
type Config struct {
	Plan    *plan.Plan
	Begin   engine.Begin    // what to start
	Once    bool            // changes of files are ignored
	Observe bool            // all units are observed, whatever their settings say
	Key     string          // identifies all its processes; empty: the settings file
	Book    Book            // the log
	Logs    string          // the directory of the log, whose name is that of the session
	State   string          // the directory for persistent state
	Results string          // the directory for what is kept of tests and findings
	History string          // the directory of the project's history; empty: none is written
	Store   *contents.Store // for outputs and changed files; nil: they are not kept
	Outside
	// Record, if set, gets a recording of all events and decisions.
	Record io.Writer
	// Adopted, if set, is called with each edited plan when it is in use. It must not block.
	Adopted func(*plan.Plan)
	// Deserted, if set, is called when the last face of a session that is not in the background was detached. It must
	// not block.
	Deserted   func()
	Background bool // the session keeps running without a face
	Watchdog   int  // the process that guards this one; 0: none
	// Watch opens the watcher, whose bursts have numbers above after, and Spawner runs processes; nil: the system's
	// own.
	Watch   func(after int) (Watcher, error)
	Spawner run.Spawner
	Yield   func() // see process.New
}

// Outside is what of a session is known on other machines.
type Outside struct {
	Share   *share.Share // the results of the team; nil: there is none
	Secrets []string     // values to mask in addition to those of the plan
	Traced  string       // the name of the session in traces; empty: processes get no TRACEPARENT
}

// Book stores the lines of a session and reads them, as logbook.Book does. Its methods may be called from any
// goroutine.
type Book interface {
	run.Book
	View() (*logbook.View, error)
	Published() int64
	Flush()
	SetLimits(l logbook.Limits)
	Grown() (<-chan struct{}, func())
	Err() error
	Check() // checks whether its directory still exists
}

// Watcher reports files, as watch.Watcher does.
type Watcher interface {
	Events() <-chan watch.Event
	Err() error // why Events was closed
	SetInterests(interests []pattern.Interest, number int)
	Files(key string) []watch.File // the existing files that affect the interest with a key
	CatchUp(number int)
	Close()
}

// Session is a running project: what its goroutines share. Its methods may be called from any goroutine. What only
// the loop may use is in loop.
type Session struct {
	fixed
	memory
	published
	guarded
	facts

	book      Book
	events    chan timedEvent // for the loop
	done      chan struct{}   // closed when everything has ended
	stopped   chan struct{}   // closed when senders should no longer try
	reread    chan struct{}   // has a value when the settings should be read again
	meter     *meter.Meter    // nil: the spawner is not the system's
	volume    volume
	outputs   outputs.Outputs
	ownBursts atomic.Int64 // numbers of the session's own changes, downwards from -1
	terminals *terminals.Terminals
	beats     beats
	pages     pages.Servers
	showing   showing
}

// fixed is what does not change after the start.
type fixed struct {
	root  string   // the project's directory
	marks []string // variables that identify all its processes
	once  bool     // see Config
	// ownFolder is the directory for Omnivigil's own state and logs.
	ownFolder string
	began     time.Time // the zero of the steady clock
	spawner   run.Spawner
	store     *contents.Store  // nil: nothing is kept
	tracer    *process.Spawner // the system's; nil in tests
	deserted  func()           // see Config
	// adopted, if set, is called by the loop with each plan when it is adopted.
	adopted func(*plan.Plan)
	secrets []string // see Config
	traced  string   // see Config
}

// memory is what is kept across sessions. Each part has its own lock.
type memory struct {
	setup    *setup.Record
	results  *reuse.Results
	sharing  *sharing.Sharing
	trackers *run.Trackers
	outcomes *outcomes.Results
	// observations also belong to this session.
	observations *observation.Observations
}

// published is what the loop publishes; each value is immutable.
type published struct {
	snapshot  atomic.Pointer[engine.Snapshot]
	shownPlan atomic.Pointer[plan.Plan]
	hidden    atomic.Pointer[redact.Mask]
}

// guarded is what mu guards.
type guarded struct {
	mu      sync.Mutex
	subs    map[chan struct{}]bool
	answers map[int]chan<- engine.Answer // to requests, by number
	asked   int
	waiters map[int]*waiter
	waits   int
	watcher Watcher // set only by the loop, which may read it without mu
}

// facts are what has happened, for faces and for the history.
type facts struct {
	account  *account.Account
	writers  *writers.Observer
	verdicts verdicts.Commands
	past     verdicts.History
	census   lens.Census // advanced when a face asks
	history  *recorder.Recorder
	recorded chan struct{} // closed when the history is written
	reading  recorder.Reading
	earlier  ended.Recent
	changes  *changes.Tracker // nil: changes are not kept
}

// timedEvent is an event with its time.
type timedEvent struct {
	at    time.Time
	event engine.Event
}

// Start runs the project. It does not block; the session runs until a request to quit has been carried out, which
// Done reports. An error tells what could not be started; nothing runs then.
func Start(c Config) (*Session, error) {
	s := &Session{
		fixed: fixed{
			root: c.Plan.Root, marks: process.Marks(cmp.Or(c.Key, c.Plan.File)), once: c.Once, ownFolder: c.State,
			began: time.Now(), spawner: c.Spawner, store: c.Store, deserted: c.Deserted, adopted: c.Adopted,
			secrets: c.Secrets, traced: c.Traced,
		},
		memory: memory{setup: setup.In(c.State)},
		guarded: guarded{
			subs: map[chan struct{}]bool{}, answers: map[int]chan<- engine.Answer{}, waiters: map[int]*waiter{},
		},
		facts: facts{account: account.New(), recorded: make(chan struct{})},
		book:  c.Book, events: make(chan timedEvent, 256), reread: make(chan struct{}, 1),
		done: make(chan struct{}), stopped: make(chan struct{}),
	}
	s.terminals, s.pages.Host = terminals.New(host{s}), host{s}
	l := newLoop(s, c)
	s.showing.background = c.Background
	s.showing.about = api.About{
		File: c.Plan.File, Root: c.Plan.Root, Session: filepath.Base(c.Logs), Since: time.Now().Round(0), Logs: c.Logs,
		Supervisor: os.Getpid(), Watchdog: c.Watchdog,
	}
	s.hide(c.Plan)
	var err error
	if c.Record != nil {
		if l.recorder, err = recording.NewRecorder(s.masked(c.Record), c.Plan); err != nil {
			return nil, fmt.Errorf("write the recording: %w", err)
		}
	}
	if l.watching.open == nil {
		l.watching.open = func(after int) (Watcher, error) { return watch.Open(c.Plan.Root, after) }
	}
	if s.watcher, err = l.watching.open(0); err != nil {
		return nil, err
	}
	if s.spawner == nil {
		s.startProcesses(c.Yield)
	}
	s.verdicts = verdicts.Commands{
		Start: s.spawner.Start, Marks: s.marks, Clean: s.clean, Stopped: s.stopped, News: make(chan verdicts.News, 1),
		Failed: func(v verdicts.News, how string) {
			s.note(logbook.Entry{Tone: logbook.Stale}, fmt.Sprintf("on_verdict %s: %s", v.Command, how))
		},
	}
	s.writers = writers.New(s.tracer, s.root)
	s.trackers = run.NewTrackers(c.Results, c.Plan.Root, c.Once)
	s.trackers.Adopt(c.Plan)
	s.outcomes = outcomes.New(s.trackers, s.clean)
	s.observations = observation.New(s.root, observed.In(c.State, c.Plan.Root), host{s})
	if c.Observe {
		s.observations.Ask(c.Plan.UnitNames())
	}
	s.results = reuse.In(c.State, c.Plan.Root, c.Store, s.inputs)
	s.sharing = &sharing.Sharing{Host: host{s}, Share: c.Share, Results: s.results, Once: c.Once}
	s.sharing.Begin()
	s.snapshot.Store(l.engine.Snapshot())
	s.shownPlan.Store(c.Plan)
	l.watchFor(c.Plan)
	s.record(c) // before the first run, whose tests it records
	go l.run(c.Begin)
	if s.history != nil {
		go s.history.KeepStates(func() any { return s.state() }, s.stopped)
	}
	if c.Store != nil {
		s.changes = changes.New(host{s}, c.Store, s.root)
		go s.changes.Follow()
	}
	go s.verdicts.Follow()
	if s.meter != nil {
		go s.meter.Run(s.stopped)
		go s.writers.Follow(host{s})
	}
	return s, nil
}

// Plan returns the settings in use.
func (s *Session) Plan() *plan.Plan { return s.shownPlan.Load() }

// state returns the current state of the engine.
func (s *Session) state() *engine.Snapshot { return s.snapshot.Load() }

// Done is closed when everything has ended after a request to quit.
func (s *Session) Done() <-chan struct{} { return s.done }

// Changed returns a channel that has a value whenever there is a new snapshot, and a function that ends this.
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

// startProcesses makes the session start real processes, and measure what they use.
func (s *Session) startProcesses(yield func()) {
	s.tracer = process.New(yield)
	s.spawner = run.System{Spawner: s.tracer}
	s.meter = meter.New(s.tracer)
	s.meter.Opened, s.meter.Listens, s.meter.Written = s.opened, s.listens, s.written
	s.meter.Moved, s.meter.Note = s.notify, s.Note
	s.meter.Young = func() bool { return survey.HasYoung(s.state().Units, time.Now(), s.time) }
	machine := &survey.Survey{Load: s.tracer.Load}
	s.meter.Surveyed = func() {
		cpu := func(unit string) float64 { return s.meter.Uses()[unit].CPU }
		if ev, matters := machine.Look(s.state().Units, cpu); matters {
			s.send(ev)
		}
	}
}

// moment is a time of time.Now for the engine.
func (s *Session) moment(t time.Time) engine.Moment {
	return engine.Moment{Wall: t.Round(0), Steady: t.Sub(s.began)}
}

// time is the inverse of moment.
func (s *Session) time(m engine.Moment) time.Time { return s.began.Add(m.Steady) }

// notify wakes the listeners to new snapshots.
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
