package engine

import (
	"maps"
	"slices"
	"time"

	"omnivigil/internal/plan"
)

// Run is one execution of a unit. Missing times are zero.
type Run struct {
	Number    int
	Reasons   []Reason
	Command   string // its command, if that is not the unit's own
	Ripples   []int  // that it is part of, newest last
	PID       int
	OrderedAt Moment
	ReadyAt   Moment
	EndedAt   Moment
	Exit      Exit
	Reused    time.Time // when the run of a reused result ended; zero: it really ran
	Restored  bool      // and its outputs were restored
	MadeBy    string    // who has made that result, if it comes from the team's share
	Problem   Problem
	Spans     []Span // before its order, and its own
	Pace      Pace   // while it is live
}

// run is a Run with what only the engine knows.
type run struct {
	Run
	order
	coverage
	verdictOfRun
	process
	turn
	clockTimes
}

// order is what a run should do, and why.
type order struct {
	command  plan.Command
	whole    bool   // it runs the unit's own command without selection
	narrowed string // a description of the selected cases; empty: all
	opening  string // what it does to the unit, to be reported at its start; empty: reported
	chain    chain  // that set it off
	ripples  []*Ripple
}

// coverage is what a run could have read, and which work it does.
type coverage struct {
	atStart revision       // the newest revision at its order
	read    revision       // the newest later one that it has picked up by itself
	builtOn map[string]int // the generation of each followed unit at its order
	pays    pendingWork    // the work that it does; owed again if it fails
}

// verdictOfRun is the result of a run.
type verdictOfRun struct {
	good        bool     // it was ready, or succeeded
	failed      bool     // it failed, or was not ready in time
	failure     *Failure // how it ended; nil: it has not, or well
	failsBy     string   // why, if its report does not tell
	fails       bool     // its output makes it a failed one, whatever its exit status
	reported    int      // the version of its newest report
	reportedAll bool     // that was the final one
}

// process is the state of a run's process.
type process struct {
	spawned   bool
	spawnedAt Moment
	killed    bool
	serves    bool   // it belongs to a task that may serve, and serves
	listens   bool   // the same, and it accepts connections
	seen      string // the last result of its ready check
	busyAt    Moment // when its processes were last seen to use CPU, while it was starting
	answered  bool   // the start was answered
	misses    int    // checks in a row that found something of a relay missing
	ails      bool   // it was ready, and then a check failed
	asksFor   string // the input that it waits for; empty: nothing
	askedLast int    // the number of the newest of Asks
}

// turn is a run's part in the limit of jobs.
type turn struct {
	job       bool   // it has one
	heavy     bool   // its step needs one
	stepWaits bool   // it waits for one
	step      string // the current step before its process
}

// clockTimes are what the wall clock had shown, and file times, around a run.
type clockTimes struct {
	before, latest time.Time // the latest time that it had shown at its process's start, and at its end
	clockSet       bool      // while it ran
	newest         time.Time // of the files that it may have written; see Exited
}

// start orders a new run. The unit has no live run.
func (e *Engine) start(u *unit) {
	a := u.pending
	u.pending = nil
	if !a.anyOpen() {
		// It was held until its ripples had come to rest, and is free because of something that is not a ripple.
		r := e.ripples.open(
			e.now,
			Cause{Kind: CauseRelease, Unit: u.spec.Name, Reason: Reason{Kind: ReasonReleased, Unit: u.spec.Name}},
		)
		a.join(r)
		r.take(u)
	}
	r := &run{
		order:    order{command: u.spec.Run, whole: true, chain: a.chain},
		coverage: coverage{atStart: e.rev, read: e.rev, builtOn: u.generations()},
		turn:     turn{job: u.takesJob()},
	}
	if !a.once {
		r.narrowed = u.narrowed
	}
	if c, ok := a.asks.narrow(); ok && r.narrowed == "" {
		r.command, r.whole, r.Command = c, false, c.String()
	}
	words := slices.Concat(u.words, u.narrowWords)
	if a.once {
		words = a.words
	}
	if len(words) > 0 {
		r.Command = r.command.Plus(words).String()
	}
	same := u.run != nil && u.touched <= u.run.read && maps.Equal(u.run.builtOn, r.builtOn)
	if r.narrowed != "" { // everything that it leaves out is still to be run
		r.whole = false
		u.owed.add(a.asks)
		u.owed.whole = true
	} else {
		r.pays = a.asks
		r.pays.whole = r.whole // it does more than was required, and may fail as a whole
		r.pays.add(u.owed.covered(r))
		u.owed.pay(r)
	}
	r.OrderedAt, r.Reasons = e.now, a.reasons
	e.forgetUncovered(u)
	state, phase, verb := u.working()
	if r.Number = e.numbers[u.spec.Name] + 1; u.run != nil {
		r.Number = u.run.Number + 1
	} else {
		verb = plan.Starts
	}
	a.span(e.now, Span{Phase: phase})
	r.Spans = a.spans
	u.state, u.run, u.retryAt, u.passes = state, r, Moment{}, passes{chain: a.chain}
	e.ripples.attribute(u, r, a)
	e.noteSetOff(u)
	mayReuse := u.spec.Reuse && r.whole && !a.forced && len(words) == 0
	e.emit(
		Start{
			Unit:    u.spec.Name,
			Run:     r.Number,
			Ripple:  r.newestRipple(),
			Command: r.command,
			Words:   words,
			Narrow:  r.narrowed != "",
			Same:    same,
			Setup:   a.setup,
			Reuse:   mayReuse,
			Seek:    mayReuse && !r.isForSave(),
		},
	)
	r.opening = verb
	if !mayReuse {
		e.tellOpening(u)
	}
}

// tellOpening reports that a run was ordered, unless that was reported before.
func (e *Engine) tellOpening(u *unit) {
	if u.run.opening != "" {
		e.tellRun(u, Fact{Kind: FactRunStarted, Verb: u.run.opening, Reasons: u.run.Reasons, Command: u.run.Command})
		u.run.opening = ""
	}
}

// reused ends a run that is not necessary: an earlier result of its unit is valid.
func (e *Engine) reused(ev Reused) {
	u := e.of(ev.Unit, ev.Run)
	switch {
	case u == nil || u.run.spawned || !u.spec.Reuse:
		return
	case u.state == Stopping:
		e.notSpawned(NotSpawned{Unit: ev.Unit, Run: ev.Run})
		return
	}
	u.run.opening, u.run.Reused, u.run.Restored, u.run.MadeBy = "", ev.At, ev.Restored, ev.By
	e.ended(u, End{State: Done, Reused: ev.At, Restored: ev.Restored, MadeBy: ev.By})
	if ev.Restored { // what is there differs from the last good result
		e.finishedAgain(u)
	} else {
		e.goodAgain(u)
		u.makes(ev.At, Moment{})
	}
	u.lasted = ev.Took
	if u.onlyWhenAsked() && u.pending == nil {
		u.wanted = false // until a request starts it
	}
}

// goodAgain records a good result that is the same as the one before in this session, if there was one: units that
// have built on that need not act.
func (e *Engine) goodAgain(u *unit) {
	if u.generation == 0 {
		e.finishedAgain(u)
		return
	}
	u.goodRead, u.goodBuiltOn = u.run.read, u.run.builtOn
	u.run.pays, u.run.good = pendingWork{}, true
	u.suspects, u.gone = nil, nil
	for _, d := range u.downstream {
		e.enqueue(d)
	}
}

// working returns the state of a unit while it runs.
func (u *unit) working() (State, Phase, string) {
	switch {
	case u.run != nil && u.run.serves:
		return Running, PhaseRunning, plan.Restarts
	case u.spec.Kind.Ends():
		return Running, PhaseRunning, u.spec.Verb()
	}
	return Starting, PhaseStarting, u.spec.Verb()
}

// generations returns the number of good runs of each followed unit.
func (u *unit) generations() map[string]int {
	if len(u.follows) == 0 {
		return nil
	}
	g := make(map[string]int, len(u.follows))
	for _, f := range u.follows {
		g[f.spec.Name] = f.generation
	}
	return g
}

// of returns the unit whose live run has a number, or nil.
func (e *Engine) of(name string, number int) *unit {
	u := e.byName[name]
	if u == nil || !u.live() || u.run.Number != number {
		return nil
	}
	e.show(u)
	return u
}

func (e *Engine) settingUp(ev SettingUp) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil || u.run.spawned || u.state == Stopping || u.run.stepWaits {
		return
	}
	e.tellOpening(u)
	u.run.step, u.run.heavy = ev.Step, ev.Heavy
	if u.state != Setup {
		u.state = Setup
		e.enqueue(u)
	}
	if ev.Heavy && !u.run.job {
		u.run.stepWaits = true
		u.run.span(e.now, Span{Phase: PhaseQueued})
		e.queueForJob(u)
		return
	}
	e.proceed(u)
}

func (e *Engine) spawned(ev Spawned) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil || u.run.spawned {
		return
	}
	e.tellOpening(u)
	u.run.PID, u.run.spawned, u.run.spawnedAt, u.run.before = ev.PID, true, e.now, e.latest
	u.run.job = u.takesJob()
	e.keepPace(u)
	if u.spec.MayServe {
		e.setTimer(u, livedAsService, plan.ServesAfter)
	}
	if u.state == Setup {
		var phase Phase
		u.state, phase, _ = u.working()
		u.run.span(e.now, Span{Phase: phase})
		e.enqueue(u)
	}
	if u.state != Starting {
		return
	}
	if rd := u.spec.Ready; rd.Probed() || u.spec.Pass != nil {
		e.setTimer(u, notReadyInTime, rd.Within)
	} else {
		e.setTimer(u, livedLongEnough, rd.After)
	}
}

func (e *Engine) notSpawned(ev NotSpawned) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil || u.run.spawned {
		return
	}
	e.tellOpening(u)
	u.run.Problem = told(ev.Problem)
	switch u.ending {
	case byRequest:
		e.ended(u, End{State: Stopped})
	case toAct:
		e.ended(u, End{State: Waiting})
	default:
		e.ended(u, End{State: Failed, Problem: u.run.Problem})
	}
}

func (e *Engine) becameReady(ev BecameReady) {
	switch u := e.of(ev.Unit, ev.Run); {
	case u == nil || !u.spec.Ready.Probed():
	case u.spec.Pass == nil:
		e.ready(u)
	default:
		u.run.answered = true
		if p := u.passes; p.open == nil && p.last != nil && p.last.Good {
			e.ready(u)
		}
	}
}

func (e *Engine) listens(ev Listens) {
	if u := e.byName[ev.Unit]; u != nil && u.spec.MayServe && u.live() && u.run.PID == ev.PID {
		e.show(u)
		u.run.listens = true
		e.serves(u)
	}
}

// serves makes the run of a task that may serve a service's run, which is ready.
func (e *Engine) serves(u *unit) {
	if !u.spec.MayServe || u.state != Running {
		return
	}
	u.run.serves = true
	e.nowReady(u)
	if u.run.narrowed == "" {
		e.finishedAgain(u)
	}
}

func (e *Engine) probed(ev Probed) {
	if u := e.of(ev.Unit, ev.Run); u != nil {
		u.run.seen = ev.Saw
	}
}

func (e *Engine) asks(ev Asks) {
	if u := e.of(ev.Unit, ev.Run); u != nil && ev.Number > u.run.askedLast {
		u.run.asksFor, u.run.askedLast = ev.For, ev.Number
	}
}

func (e *Engine) ready(u *unit) {
	switch {
	case u.state == Starting:
	case u.run.ails: // health checks decide
		return
	case u.state == Failed && u.live(): // it was late
		u.run.Problem = Problem{}
		if u.spec.Pass == nil {
			u.owed.pay(u.run)
		}
		r := e.ripples.open(
			e.now,
			Cause{Kind: CauseRelease, Unit: u.spec.Name, Reason: Reason{Kind: ReasonLateReady, Unit: u.spec.Name}},
		)
		r.take(u)
		u.run.ripples = append(u.run.ripples, r)
		u.run.Ripples = append(u.run.Ripples, r.ID)
	default:
		return
	}
	e.nowReady(u)
	if u.spec.Pass == nil {
		e.finishedAgain(u)
	}
}

func (e *Engine) nowReady(u *unit) {
	u.state = Ready
	u.run.ReadyAt, u.run.failed, u.run.Pace = e.now, false, Pace{}
	u.run.endSpan(e.now)
	e.ripples.account(u.run, e.now)
	e.tellRun(u, Fact{Kind: FactRunReady, Took: e.now.Sub(u.run.OrderedAt)})
	if u.deaths > 0 {
		e.setTimer(u, provenGood, goodStretch)
	}
	e.enqueue(u)
}

// notReady makes a service that is not ready in time a failed one. Its process keeps running, and it becomes ready if
// it answers after all: a compiler that started on a broken file does so when the file is fixed.
func (e *Engine) notReady(u *unit) {
	if u.state != Starting {
		return
	}
	rd := u.spec.Ready
	waitedFor := rd.String()
	switch p := u.passes; {
	case u.spec.Pass == nil:
	case p.open != nil && !p.open.guessed: // it may take its time
		e.setTimer(u, notReadyInTime, rd.Within)
		return
	case p.last == nil:
		waitedFor = ""
	}
	if e.takesLonger(u) {
		return
	}
	u.run.Pace = Pace{}
	u.run.Problem = Problem{Kind: ProblemLate, Within: rd.Within, Text: waitedFor, Seen: u.run.seen}
	u.state, u.run.failed = Failed, true
	if u.spec.Pass == nil {
		u.owed.add(u.run.pays) // otherwise its next good pass pays
	}
	u.run.endSpan(e.now)
	e.tellRun(u, Fact{Kind: FactRunLate, Problem: u.run.Problem})
	e.enqueue(u)
}

// finishedAgain records a good run and passes it on to followers.
func (e *Engine) finishedAgain(u *unit) {
	u.generation++
	if u.spec.Pass == nil { // otherwise takeUp knows
		u.goodRead, u.goodBuiltOn = u.run.read, u.run.builtOn
	}
	u.run.pays, u.run.good = pendingWork{}, true
	u.lasted = u.run.took(e.now)
	u.makes(e.latest, u.run.spawnedAt) // of a service that is ready
	u.suspects, u.gone = nil, nil
	e.endDoubts(u, func(d Doubt) bool { return d.Kind == DoubtOutput })
	e.enqueue(u)
	for _, r := range u.run.ripples {
		if r.Resting() {
			continue
		}
		for _, f := range u.followers {
			switch {
			case !f.wanted || f.onlyWhenAsked() && f.pending == nil:
			case f.run == nil:
				e.intend(f, r, Reason{}) // it was only waiting to start
			default:
				e.follow(f, u, r)
			}
		}
		e.release(u, func() *Ripple { return r })
	}
	for _, d := range u.downstream {
		e.enqueue(d)
	}
	e.askForOwed(u)
}

// release lets units continue that wait for this one and whose own ripples have all come to rest, as part of another
// ripple.
func (e *Engine) release(u *unit, ripple func() *Ripple) {
	for _, d := range u.downstream {
		if d.pending != nil && !d.pending.anyOpen() {
			e.intend(d, ripple(), Reason{})
		}
	}
}

// askForOwed runs what earlier runs have left undone, after a partial run has succeeded.
func (e *Engine) askForOwed(u *unit) {
	if u.owed.empty() || u.run.whole || !u.wanted || u.pending != nil || e.quitting {
		return
	}
	for _, r := range u.run.ripples {
		if !r.Resting() {
			e.ask(u, r, Reason{Kind: ReasonLeftUndone}, u.owed)
		}
	}
}

func (e *Engine) exited(ev Exited) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil {
		return
	}
	u.run.Exit, u.run.newest = ev.Exit, ev.Newest
	defer e.doubtSaved(u, u.run)
	end := End{Exit: &ev.Exit}
	switch why := u.ending; {
	case why == byRequest || u.removed:
		e.ended(u, end.as(Stopped))
	case why == toAct:
		e.ended(u, end.as(Waiting))
	case why == byLimit:
		end.Problem = u.run.Problem
		e.ended(u, end.as(Failed))
	case !u.spec.Kind.Ends(), u.run.listens && !ev.Exit.OK():
		e.crashed(u, end.as(Crashed))
	case u.run.serves && !ev.Exit.OK():
		e.crashed(u, end.as(Failed))
	case ev.Exit.OK() && u.run.fails:
		if end.Problem = told(u.run.failsBy); end.Problem.IsZero() {
			report := u.report
			end.Problem = Problem{Kind: ProblemReported, Report: &report}
		}
		u.run.Problem = end.Problem
		e.ended(u, end.as(Failed))
	case ev.Exit.OK():
		e.ended(u, end.as(Done))
		e.endDoubts(u, func(d Doubt) bool { return u.run.spawnedAt.After(d.Since) && ev.Oldest.After(u.run.before) })
		switch {
		case u.run.narrowed != "":
			e.narrowDone(u)
		case !u.run.serves: // otherwise it was good enough for its followers
			e.finishedAgain(u)
		}
		if u.onlyWhenAsked() && u.pending == nil {
			u.wanted = false // until a request starts it
		}
	default:
		e.ended(u, end.as(Failed))
	}
}

func (x End) as(s State) End {
	x.State = s
	return x
}

// ended closes the live run and sets the unit's next state. It returns the end of the run.
func (e *Engine) ended(u *unit, end End) End {
	s := end.State
	u.run.Pace = Pace{}
	u.run.EndedAt, u.run.latest, u.run.clockSet = e.now, e.latest, e.clockSet.After(u.run.spawnedAt)
	if u.run.spawned {
		u.makes(e.latest, u.run.spawnedAt)
	}
	u.run.endSpan(e.now)
	if s != Done {
		u.owed.add(u.run.pays) // it failed
	}
	if s == Failed && end.Problem.IsZero() && !u.run.serves {
		end.Problem = u.reportedProblem()
	}
	end.Lived, end.ReadyAt = e.now.Sub(u.run.OrderedAt), u.run.ReadyAt
	u.state, u.ending, u.run.failed = s, byItself, s.Broken()
	u.run.failure = u.failure()
	e.ripples.account(u.run, e.now)
	was := u.run.Run
	was.Spans, was.Ripples = slices.Clone(was.Spans), slices.Clone(was.Ripples)
	e.tellRun(u, Fact{Kind: FactRunEnded, State: s, Took: end.Lived, Over: Over{End: &end, Run: &was}})
	e.enqueue(u)
	if e.quitting {
		e.enqueueAll()
	}
	return end
}

// reportedProblem is the problem in the run's output, or of reading its results.
func (u *unit) reportedProblem() Problem {
	if u.run.failsBy != "" {
		return told(u.run.failsBy)
	}
	if report := u.reportedWrong(); report != nil {
		return Problem{Kind: ProblemReported, Report: report}
	}
	return Problem{}
}

// crashed ends the run of a service that has exited without a request, or of a task that has served.
func (e *Engine) crashed(u *unit, end End) {
	was := u.state
	end.Suspects = slices.Clone(u.suspects)
	if report := u.reportedWrong(); report != nil {
		end.Problem = Problem{Kind: ProblemReported, Report: report}
	}
	end = e.ended(u, end)
	if u.pending != nil {
		return // it will start anyway
	}
	since := e.now.Sub(u.run.ReadyAt)
	switch {
	case u.retries():
		e.setTimer(u, retryNow, e.pause(u))
	case was == Ready && since < soonAfter && e.amend(u, since): // the crash belongs to the ripple that started the run
	case was == Ready || was == Failed:
		reason := Reason{Kind: ReasonCrash, Unit: u.spec.Name, End: &end}
		e.ripples.open(e.now, Cause{Kind: CauseCrash, Unit: u.spec.Name, Reason: reason}).take(u)
	}
}

func (r *run) endSpan(now Moment) {
	if n := len(r.Spans); n > 0 && r.Spans[n-1].To.IsZero() {
		r.Spans[n-1].To = now
	}
}

// span ends the run's last span and begins another one. A span without duration is dropped.
func (r *run) span(now Moment, s Span) {
	if n := len(r.Spans); n > 0 && r.Spans[n-1].To.IsZero() && r.Spans[n-1].From == now {
		r.Spans = r.Spans[:n-1]
	}
	r.endSpan(now)
	s.From = now
	r.Spans = append(r.Spans, s)
}

// newestRipple is the number of the newest ripple of the run; 0: none.
// isForSave reports whether it is part of what a save has set off.
func (r *run) isForSave() bool {
	return slices.ContainsFunc(r.ripples, func(of *Ripple) bool { return of.Cause.Kind == CauseChange })
}

func (r *run) newestRipple() int {
	if len(r.ripples) == 0 {
		return 0
	}
	return r.ripples[len(r.ripples)-1].ID
}
