// Package simulate is a simulated world for an engine: processes that are slow, never become ready, crash or ignore
// their signal; files that are saved at the worst moment; users who send requests. Time is a number, so hours pass in
// microseconds.
//
// A World acts on the engine. A Checker watches it and reports which of the rules was broken; it keeps its own record
// and trusts nothing that the engine reports of itself. Package random plays random projects in it. Start reading at
// the comment of Checker.
package simulate

import (
	"slices"
	"time"

	"omnivigil/internal/api/report"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/dryrun"
	"omnivigil/internal/engine/simulate/disk"
	"omnivigil/internal/plan"
)

// Behavior is what the process of one run does.
type Behavior struct {
	NoSpawn    bool          // the command cannot be started
	SetupTakes time.Duration // the duration of steps before the process
	Quick      bool          // these are not setup steps
	SpawnTakes time.Duration // from the order, or the end of the steps, to the process
	ReadyAfter time.Duration // of probed services; negative: never
	Listens    bool          // of tasks that may serve: they do, after ReadyAfter
	EndsAfter  time.Duration // without a request; negative: never
	Exit       engine.Exit   // in that case
	Fails      bool          // before that it reports something that makes it a failed one
	Late       time.Duration // how late its earlier report arrives; 0: there is none
	StopTakes  time.Duration // from its stop signal to its end; negative: it ignores the signal
	Ails       time.Duration // from its first answer until a check fails; 0: none does
	AilsFor    time.Duration // until a check succeeds again
	Writes     string        // it writes a file that affects this unit; empty: none
	WriteAfter time.Duration // the time from its start to that write
	Tool       *Tool         // of units that pick up changes by themselves
	Lost       bool          // the outputs of earlier runs can no longer be restored
	// RestoreTakes is how long it takes to restore outputs.
	RestoreTakes time.Duration
}

// World is the outside world of one engine. It is not safe for concurrent use.
type World struct {
	dryrun.Agenda
	Engine *engine.Engine
	Plan   *plan.Plan
	Hooks

	// Unwatched is why files are not reported; empty: they are watched.
	Unwatched string
	blind     bool // files are not watched, or what was missed has not been reported

	ClockSet bool // the wall clock was set
	Finished bool
	Steps    int

	processes
	writing
	onDisk
}

// Hooks let a test decide what happens in the world, and observe it.
type Hooks struct {
	// Behave returns the behavior of a run's process. It is called once for each run.
	Behave func(unit string, run int) Behavior
	// Observe, if set, is called before and after each step.
	Before func(ev engine.Event)
	After  func(ev engine.Event, orders []engine.Order)
	// Spawned, if set, is called when a process really starts to run.
	Spawned func(unit string, run int)

	// Wrote, if set, is called when a file that affects a unit is really written, and PassBegins when a tool begins
	// the pass with a number.
	Wrote      func(unit string, burst int)
	PassBegins func(unit string, pass int)

	// Made, if set, is called when a unit's process writes a file that affects a unit.
	Made func(by, unit string)

	// Noisy, if set, tells whether a service is observed to write all the time.
	Noisy func() bool

	// Double, if set, tells whether an event reaches the engine twice.
	Double func() bool
}

// processes are the processes of all units.
type processes struct {
	pids    int
	procs   map[string]*process
	doubled bool // the event is sent a second time
	passes  int  // of all tools so far
	ending  int  // the pass that PassEnded is about
}

// writing is which units write which files, and how that is reported.
type writing struct {
	left   map[string][]string // files that units ignore
	open   map[string]*making  // by path
	makes  map[int]bool        // bursts of what units write
	vague  map[int]bool        // bursts that the affected units may have written, as far as visible
	burst  int
	missed int // bursts up to this one will not be reported any more

	heardAhead time.Duration // Ahead at the last step
}

// onDisk is what is on disk, and what is known of it.
type onDisk struct {
	disk.Disk
	times   map[string]*timed
	unheard int // written files that have not been reported
}

type process struct {
	run     int
	b       Behavior
	alive   bool
	went    bool  // its step has begun
	tool    *tool // nil: it picks up no changes
	order   engine.Start
	input   *disk.Result  // its inputs at its start
	wrote   engine.Moment // the last write
	spawned bool
	// Of a process that compares file times: when one of its files was first saved, and when its object was made.
	saved, built, ended time.Time
}

// NewWorld returns a world in which the project has not started.
func NewWorld(p *plan.Plan, behave func(unit string, run int) Behavior) *World {
	w := &World{
		Engine: engine.New(
			p,
		),
		Plan:      p,
		Hooks:     Hooks{Behave: behave},
		processes: processes{procs: map[string]*process{}},
		writing: writing{
			left: map[string][]string{}, open: map[string]*making{}, makes: map[int]bool{}, vague: map[int]bool{},
		},
		onDisk: onDisk{Disk: disk.New(), times: map[string]*timed{}},
	}
	w.Now = time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	return w
}

// Send lets the engine step.
func (w *World) Send(ev engine.Event) {
	if w.isMissed(ev) {
		return
	}
	if edit, ok := ev.(engine.NewPlan); ok {
		w.Plan = edit.Plan
	}
	if w.Before != nil {
		w.Before(ev)
	}
	if touched, ok := ev.(engine.Touched); ok && w.Ahead != w.heardAhead {
		for _, t := range w.tools(touched.Units) {
			t.unsure = true
		}
	}
	orders := w.Engine.Step(w.Moment(), ev)
	w.Steps++
	w.heardAhead = w.Ahead
	w.Finished = w.Finished || slices.Contains(orders, engine.Order(engine.Finish{}))
	if w.After != nil {
		w.After(ev, orders)
	}
	for _, o := range orders {
		w.carryOut(o)
	}
	if touched, ok := ev.(engine.Touched); ok {
		for _, t := range w.tools(touched.Units) {
			t.readUpTo(w.Moment())
		}
	}
	if _, once := ev.(engine.Uncovered); w.Double != nil && !once && w.Double() {
		double := w.Double
		w.Double, w.doubled = nil, true
		w.Send(ev)
		w.Double, w.doubled = double, false
	}
}

// soon runs a function after a duration, at once if that is zero.
func (w *World) soon(after time.Duration, do func()) {
	if after == 0 {
		do()
		return
	}
	w.In(after, do)
}

func (w *World) carryOut(o engine.Order) {
	switch o := o.(type) {
	case engine.Start:
		w.start(o)
	case engine.Proceed:
		if p := w.procs[o.Unit]; p != nil && p.run == o.Run && !p.went {
			p.went = true
			w.spawn(o.Unit, p, p.b.SetupTakes+p.b.SpawnTakes)
		}
	case engine.StopRun:
		w.signal(o)
	case engine.SetTimer:
		w.In(o.After, func() { w.Send(engine.TimerFired{Timer: o.Timer}) })
	case engine.IgnoreFiles:
		w.left[o.Unit] = o.Files
	case engine.Observe:
		w.observe(o)
	}
}

func (w *World) start(o engine.Start) {
	b := w.Behave(o.Unit, o.Run)
	p := &process{run: o.Run, b: b, alive: true, order: o}
	w.procs[o.Unit] = p
	if o.Reuse && w.Holds(w.Plan, o.Unit) {
		w.In(b.SpawnTakes, func() { w.reuse(o.Unit, p, false) })
		return
	}
	if r := w.Earlier(w.Plan, o.Unit); o.Reuse && r != nil && !b.Lost {
		w.In(b.SpawnTakes+b.RestoreTakes, func() { w.restore(o.Unit, p, r) })
		return
	}
	if b.SetupTakes > 0 {
		w.In(0, func() {
			if p.alive {
				w.Send(engine.SettingUp{Unit: o.Unit, Run: o.Run, Step: "step", Heavy: !b.Quick})
			}
		})
		return // continued by Proceed
	}
	w.spawn(o.Unit, p, b.SpawnTakes)
}

// spawn starts the process of a run.
func (w *World) spawn(unit string, p *process, after time.Duration) {
	b := p.b
	w.In(after, func() {
		if !p.alive {
			return // it was stopped during a step
		}
		if b.NoSpawn {
			p.alive = false
			w.Send(engine.NotSpawned{Unit: unit, Run: p.run, Problem: "command not found"})
			return
		}
		p.input, p.spawned = w.Input(w.Plan, unit), true
		if u := w.Plan.Unit(unit); u != nil && u.ComparesTimes {
			w.build(unit, p)
		}
		if w.Spawned != nil {
			w.Spawned(unit, p.run)
		}
		w.pids++
		pid := w.pids
		w.Send(engine.Spawned{Unit: unit, Run: p.run, PID: w.pids})
		w.observing(unit, p.run)
		if b.Tool != nil {
			w.runTool(unit, p)
		}
		if b.Writes != "" {
			w.In(b.WriteAfter, func() { w.make(unit, p) })
		}
		if b.EndsAfter >= 0 {
			w.In(b.EndsAfter, func() { w.exit(unit, p, b.Exit) })
		}
		if b.ReadyAfter >= 0 {
			w.In(b.ReadyAfter, func() {
				if p.alive {
					w.Send(engine.BecameReady{Unit: unit, Run: p.run})
				}
				if p.alive && b.Ails > 0 {
					w.ail(unit, p)
				}
				if p.alive && b.Listens {
					w.Send(engine.Listens{Unit: unit, PID: pid})
				}
			})
		}
	})
}

// ail makes a service fail its checks for a while, and then succeed. Checks are more frequent than that.
func (w *World) ail(unit string, p *process) {
	look := func(after time.Duration, problem string) {
		w.In(after, func() {
			if p.alive {
				w.Send(engine.Checked{Unit: unit, Run: p.run, Problem: problem})
			}
		})
	}
	well := p.b.Ails + p.b.AilsFor
	look(p.b.Ails, "its directory is missing")
	w.In(p.b.Ails+p.b.AilsFor/3, func() { // which is not about its directory
		if p.alive {
			w.Send(engine.BecameReady{Unit: unit, Run: p.run})
		}
	})
	look((p.b.Ails+well)/2, "its directory is missing")
	look(well, "")
	look(well+time.Second, "")
}

func (w *World) signal(o engine.StopRun) {
	p := w.procs[o.Unit]
	if p == nil || p.run != o.Run || !p.alive {
		return
	}
	takes := p.b.StopTakes
	if o.Name == "KILL" {
		takes = time.Millisecond
	}
	if takes >= 0 {
		// A signal reaches a process no earlier than the process exists; during the steps before it, theirs gets it.
		if p.b.SetupTakes == 0 {
			takes = max(takes, p.b.SpawnTakes)
		}
		w.In(takes, func() { w.exit(o.Unit, p, engine.Exit{Code: -1, Signal: "SIG" + o.Name}) })
	}
}

func (w *World) exit(unit string, p *process, x engine.Exit) {
	if p.alive {
		p.alive, p.ended = false, w.Now
		w.finish(unit, p, x)
		w.report(unit, p, x)
	}
}

// report reports what a process has found, and then that it has ended. Its earlier report may arrive after that.
func (w *World) report(unit string, p *process, x engine.Exit) {
	said := func(version int, fails, final bool) {
		ev := engine.Reported{
			Unit:   unit,
			Run:    p.run,
			Fails:  fails,
			Final:  final,
			Report: engine.Report{Counts: report.Counts{Run: p.run, Version: version}},
		}
		if fails {
			ev.Report.Failed, ev.Report.Names = 1, []string{"TestTide"}
		}
		w.Send(ev)
	}
	if p.b.Fails || p.b.Late > 0 {
		said(lastVersion, p.b.Fails, true)
	}
	end := func() {
		ev := engine.Exited{Unit: unit, Run: p.run, Exit: x}
		w.wroteAfterSave(unit, p)
		if u := w.Plan.Unit(unit); u != nil && u.ComparesTimes {
			ev.Newest = w.timed(unit).at
		}
		if u := w.Plan.Unit(unit); u != nil && u.ComparesTimes && len(u.Outputs) > 0 {
			ev.Oldest = w.timed(unit).at
		}
		w.Send(ev)
	}
	if p.b.Late == 0 {
		end()
		return
	}
	w.In(p.b.Late, func() { said(1, !p.b.Fails, false) })
	w.In(time.Millisecond, end)
}

// lastVersion is the version of the last report of a process.
const lastVersion = 2

// afterwards is how long it takes to be certain who has not written a file.
const afterwards = 25 * time.Millisecond

// debounce is how long files that a process writes take to settle.
const debounce = 150 * time.Millisecond

// Made is the path of the file that the processes of a unit write and that affects a unit.
func Made(by, unit string) string { return unit + "/by-" + by }

// making is what a unit's processes have written and has not settled.
type making struct {
	burst  int
	since  engine.Moment
	writes int
}

// make lets a process write its file.
func (w *World) make(by string, p *process) {
	unit, file := p.b.Writes, Made(by, p.b.Writes)
	if !p.alive || w.Plan.Unit(unit) == nil || slices.Contains(w.left[unit], file) {
		return
	}
	p.wrote = w.Moment()
	w.stamp(unit, file, 0, false)
	if w.Made != nil {
		w.Made(by, unit)
	}
	m := w.open[file]
	if m == nil {
		w.burst++
		m = &making{burst: w.burst, since: w.Moment()}
		w.open[file], w.makes[w.burst] = m, true
	}
	m.writes++
	writes := m.writes
	if unit != by {
		w.written(m.burst, []string{unit}, Saving{}, m.since)
	}
	w.Send(engine.Touched{Burst: m.burst, Units: []string{unit}, Written: []time.Time{w.Moment().Wall}})
	w.In(debounce, func() {
		if m.writes == writes && w.Plan.Unit(unit) != nil {
			delete(w.open, file)
			hit := engine.Hit{
				Unit:    unit,
				Path:    file,
				What:    "written",
				Rule:    unit + "/**",
				TakenUp: w.Plan.Unit(unit).Pass != nil,
			}
			w.Send(engine.Change{Burst: m.burst, Since: m.since, Hits: w.dated([]engine.Hit{hit})})
		}
	})
}

// sampled is the age of the last observation of runs when a write is reported.
const sampled = 10 * time.Millisecond

// observe reports, a moment later, which units have written.
func (w *World) observe(o engine.Observe) {
	since := o.Noticed.Add(-sampled)
	looked := make([]*process, len(o.Runs))
	for i, id := range o.Runs {
		looked[i] = w.procs[id.Unit]
	}
	w.In(afterwards, func() {
		ev := engine.Observed{Burst: o.Burst, Units: o.Units}
		for i, id := range o.Runs {
			saw := engine.Observation{
				Unit:  id.Unit,
				Run:   id.Run,
				Wrote: engine.WroteNothing,
				Span:  w.Moment().Sub(since),
			}
			switch p := looked[i]; {
			case w.vague[o.Burst] && slices.Contains(o.Units, id.Unit):
				saw.Wrote = engine.WroteSomething
			case p == nil || p.run != id.Run:
				saw.Wrote = engine.WroteUnknown
			case !p.wrote.Before(since):
				saw.Wrote = engine.WroteSomething
			case w.Plan.Unit(id.Unit) != nil && w.Plan.Unit(id.Unit).Kind == plan.Service && w.Noisy != nil &&
				w.Noisy():
				saw.Wrote = engine.WroteAlways
			}
			ev.Runs = append(ev.Runs, saw)
		}
		w.Send(ev)
	})
}

// isMissed reports whether an event is about files while they are not watched, or about a burst from before they were
// watched again.
func (w *World) isMissed(ev engine.Event) bool {
	burst := 0
	switch ev := ev.(type) {
	case engine.Touched:
		burst = ev.Burst
	case engine.Change:
		burst = ev.Burst
	case engine.Unchanged:
		burst = ev.Burst
	case engine.SettingsTouched:
		return w.Unwatched != ""
	default:
		return false
	}
	return w.Unwatched != "" || burst <= w.missed
}

// Unwatch stops watching files for a reason; without one they are watched again, and all count as changed.
func (w *World) Unwatch(problem string) {
	if problem == w.Unwatched {
		return
	}
	w.Unwatched, w.blind = problem, true
	w.unheard++
	for _, u := range w.Plan.Units {
		for _, t := range w.tools([]string{u.Name}) { // it is no longer known that a file was restored
			t.unsure = t.unsure || t.Compares
		}
	}
	w.Send(engine.Unwatched{Problem: problem})
	if problem != "" {
		w.unheard--
		return
	}
	w.missed = w.burst
	clear(w.open)
	w.burst++
	touched, unchanged := engine.Touched{Burst: w.burst}, engine.Unchanged{Burst: w.burst}
	change := engine.Change{Burst: w.burst, Since: w.Moment()}
	for _, u := range w.Plan.Units {
		touched.Units = append(touched.Units, u.Name)
		if w.Wrote != nil {
			w.Wrote(u.Name, w.burst)
		}
		if u.Pass != nil {
			unchanged.Units = append(unchanged.Units, u.Name)
		} else {
			change.Hits = append(
				change.Hits,
				engine.Hit{Unit: u.Name, Path: "the watched files", What: engine.Missed, Rule: u.Name + "/**"},
			)
		}
	}
	w.Send(touched)
	w.blind = false
	w.unheard--
	w.Send(change)
	w.Send(unchanged)
}

// Saving is how files are written.
type Saving struct {
	Debounce    time.Duration // until they have settled
	TouchedLost bool          // the first event does not reach the engine
	Vague       bool          // the units' own runs may have written them, as far as visible
	Same        bool          // the contents are the same as before
	Back        bool          // the contents are those of an earlier time, as after a switch of branches
	Older       time.Duration // how old their times are
	Notice      time.Duration // from the write to the report to the engine
}

// Save writes files that affect these units: the engine learns at once that they are touched, unless that is lost,
// and after the debounce that they have settled.
func (w *World) Save(s Saving, hits ...engine.Hit) {
	w.burst++
	burst, since := w.burst, w.Moment()
	var units []string
	for _, h := range hits {
		if !slices.Contains(units, h.Unit) {
			units = append(units, h.Unit)
		}
	}
	w.vague[burst] = s.Vague
	write := func() {
		at, ahead, set := w.Moment().Wall, w.heardAhead, w.Ahead
		w.written(burst, units, s, since)
		for _, h := range hits {
			w.stamp(h.Unit, h.Path, s.Older, s.Same)
			if s.TouchedLost { // what has ended by the time of the report is unknown
				w.timed(h.Unit).everOlder = true
			}
		}
		w.unheard++
		if s.TouchedLost {
			return
		}
		touched := engine.Touched{Burst: burst, Units: units}
		for range units {
			touched.Written = append(touched.Written, at)
		}
		w.soon(s.Notice, func() {
			w.heardAhead = ahead
			w.unheard--
			for _, t := range w.tools(units) {
				t.unsure = t.unsure || w.Ahead != set
			}
			w.Send(touched)
		})
	}
	write()
	if s.Same && !s.TouchedLost { // changed, and then restored
		w.In(s.Debounce/2, func() {
			if burst <= w.missed { // the watcher that knew the earlier contents is gone
				again := s
				again.Same = false
				w.Save(again, hits...)
				return
			}
			write()
		})
	}
	w.In(s.Notice+s.Debounce, func() {
		if s.TouchedLost {
			w.unheard--
		}
		if s.Same {
			w.Send(engine.Unchanged{Burst: burst, Units: units, Hits: w.dated(hits)})
		} else {
			w.Send(engine.Change{Burst: burst, Since: since, Hits: w.dated(hits)})
		}
	})
}

// written records a write to a file that affects these units.
func (w *World) written(burst int, units []string, s Saving, since engine.Moment) {
	for _, name := range units {
		if w.Wrote != nil {
			w.Wrote(name, burst)
		}
		w.Change(name, burst, s.Same, s.Back)
	}
	for _, t := range w.tools(units) {
		t.written(s.Same, since)
	}
}
