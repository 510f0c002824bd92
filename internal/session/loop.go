package session

import (
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/recording"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/outputs"
	"omnivigil/internal/session/quiet"
	"omnivigil/internal/session/run"
	"omnivigil/internal/session/writers"
)

// loop is the one goroutine that decides everything, and what only it may use: a method that does has a loop as its
// receiver, and no other goroutine gets one.
type loop struct {
	*Session

	plan     *plan.Plan
	edited   *plan.Plan      // a new plan whose files are not watched yet
	burst    int             // of the writing that it holds
	problem  string          // what of the saved settings is not in it; empty: nothing
	noticed  map[string]bool // files without a matching rule that the user was told about
	edits    int             // the number of edits
	first    engine.Event    // the event that starts the project, until its files are watched
	engine   *engine.Engine
	recorder *recording.Recorder // nil: nothing is recorded
	watching watching
	touches  outputs.Touches
	live     map[string]*run.Live
	ignored  map[string][]string // files that units ignore, in this session
	judged   api.Verdict         // the newest, with secrets
	ahead    time.Duration       // how far the wall clock has moved relative to the steady one
	quiet    quiet.Moment
	over     bool
}

func newLoop(s *Session, c Config) *loop {
	return &loop{
		Session: s, plan: c.Plan, engine: engine.New(c.Plan), watching: watching{open: c.Watch, since: time.Now()},
		noticed: map[string]bool{}, live: map[string]*run.Live{}, ignored: map[string][]string{},
	}
}

// run is the loop. It starts when all files are watched, so that no process reads a file whose change would be
// missed.
func (l *loop) run(first engine.Event) {
	l.first = first
	tick := time.NewTicker(api.Beat)
	defer tick.Stop()
	for !l.over {
		l.publish()
		select {
		case ev := <-l.events:
			l.step(ev.at, ev.event)
		case ev, ok := <-l.fileEvents():
			if ok {
				l.watched(ev)
			} else {
				l.notWatched()
			}
		case now := <-tick.C:
			l.beat(now)
		case <-l.quiet.Over():
		case <-l.reread:
			l.readSettings(time.Now(), l.watching.burst)
		case <-l.watching.retry:
			l.watchAgain()
		case <-l.observations.Moved:
			l.watchForNewest()
		}
		l.drain()
	}
	close(l.stopped)
	if l.tracer != nil {
		l.tracer.Close()
	}
	l.terminals.Close()
	if err := l.results.Save(); err != nil {
		l.Note("files will have to be read again next time: " + err.Error())
	}
	l.sharing.End()
	l.watcher.Close()
	l.publish()
	l.keepLast()
	l.account.Add(api.Fact{At: time.Now().Round(0), Kind: api.FactEnded, Text: "everything has ended"})
	l.recordedSoon()
	l.reading.Close()
	l.book.Flush()
	l.showing.mu.Lock()
	l.showing.ended = true
	l.showing.mu.Unlock()
	close(l.done)
}

// drain handles the other events that have arrived, so that one snapshot is enough for all.
func (l *loop) drain() {
	for range cap(l.events) {
		select {
		case ev := <-l.events:
			l.step(ev.at, ev.event)
		case ev, ok := <-l.fileEvents():
			if !ok {
				l.notWatched()
				return
			}
			l.watched(ev)
		default:
			return
		}
	}
}

// publish shows the engine's state to those who ask, and tells faces of it, if not a little later.
func (l *loop) publish() {
	snap := l.engine.Snapshot()
	l.snapshot.Store(snap)
	l.judge(snap)
	l.release(snap)
	if !l.quiet.Holds() || l.over {
		l.quiet.Told()
		l.notify()
	}
}

// step lets the engine decide, and carries out its orders.
func (l *loop) step(now time.Time, ev engine.Event) {
	ev = l.maskedEvent(ev)
	orders := l.engine.Step(l.moment(now), ev)
	if l.recorder != nil {
		if err := l.recorder.Step(l.moment(now), ev, orders); err != nil {
			l.recorder = nil
			l.Note("the recording ends here: " + err.Error())
		}
	}
	for _, order := range orders {
		l.carryOut(order)
	}
}

func (l *loop) carryOut(order engine.Order) {
	switch o := order.(type) {
	case engine.Start:
		l.quiet.Begin()
		if l.meter != nil {
			l.meter.Begun()
		}
		l.live[o.Unit] = run.New(l.project(), l.plan.Unit(o.Unit), o.Run, o.Ripple)
		l.live[o.Unit].Start(o)
	case engine.Proceed:
		if of := l.runOf(o.Unit, o.Run); of != nil {
			of.Proceed()
		}
	case engine.StopRun:
		l.quiet.Begin()
		if of := l.runOf(o.Unit, o.Run); of != nil {
			of.Stop(o.Name)
		}
	case engine.SendSignal:
		if of := l.runOf(o.Unit, o.Run); of != nil {
			of.Reload(o.Name)
		}
	case engine.SetTimer:
		time.AfterFunc(o.After, func() { l.send(engine.TimerFired{Timer: o.Timer}) })
	case engine.Tell:
		l.tell(o.Fact)
	case engine.Answer:
		l.answer(o)
	case engine.Observe:
		l.observe(o)
	case engine.Refresh:
		l.pages.Refresh(o.Unit, o.Files, o.Reload)
	case engine.IgnoreFiles:
		l.ignored[o.Unit] = o.Files
		l.watchForNewest()
	case engine.Finish:
		l.over = true
	}
}

// runOf returns a unit's run with a number, or nil if it has another one by now.
func (l *loop) runOf(unit string, number int) *run.Live {
	if of := l.live[unit]; of != nil && of.Number == number {
		return of
	}
	return nil
}

// observe reports to the engine what runs have written, if that is known.
func (l *loop) observe(o engine.Observe) {
	looks := make([]*writers.Look, len(o.Runs))
	for i, id := range o.Runs {
		looks[i] = l.writers.LookAt(l.time(o.Noticed), id, l.runOf(id.Unit, id.Run))
	}
	s := l.Session
	go func() { s.send(engine.Observed{Burst: o.Burst, Units: o.Units, Runs: s.writers.Observed(looks)}) }()
}
