package engine

import (
	"fmt"
	"time"

	"omnivigil/internal/plan"
)

// Run is one execution of a unit. Times that have not come are zero.
type Run struct {
	Number    int
	Because   string
	Ripples   []int // that it belongs to, newest last
	PID       int
	OrderedAt time.Time
	ReadyAt   time.Time
	EndedAt   time.Time
	Exit      Exit
	Problem   string // why it failed, where its exit does not say
	Spans     []Span // what came before it was ordered, and its own
}

// run is a Run with what only the engine knows.
type run struct {
	Run
	saw       revision       // newest revision when it was ordered
	sawOf     map[string]int // generation of each of the unit's follows then
	owed      debt           // what it pays if it ends well
	good      bool           // it was ready, or ended well
	command   plan.Command
	whole     bool // command is the unit's own, not that of a reaction
	ripples   []*Ripple
	killed    bool
	spawned   bool
	spawnedAt time.Time
	seen      string // last seen by its readiness probe
	chain     chain  // of runs that wrote what made it run
}

// keptRuns is how many runs of a unit an engine remembers.
const keptRuns = 50

// start orders a new run. The unit has none that is live.
func (e *Engine) start(u *unit) {
	a := u.pending
	u.pending = nil
	if !a.anyOpen() {
		// It was held until its ripples had come to rest and is free by something
		// that is nobody's ripple.
		r := e.ripples.open(e.now, Cause{Kind: CauseRelease, Unit: u.spec.Name, Text: u.spec.Name + " is held no longer"})
		a.join(r)
		r.take(u)
	}
	r := &run{saw: e.rev, sawOf: u.generations(), owed: u.owed, chain: a.chain}
	u.owed = debt{}
	r.command, r.whole = u.spec.Run, true
	if c, ok := r.owed.narrow(); ok && !a.whole {
		r.command, r.whole = c, false
	}
	r.OrderedAt, r.Because = e.now, sentence(a.reasons)
	if u.run != nil {
		r.Number = u.run.Number
	}
	r.Number++
	state, phase, verb := u.working()
	if r.Number == 1 {
		verb = "starts"
	}
	a.span(e.now, Span{Phase: phase})
	r.Spans = a.spans
	u.state, u.run, u.retryAt = state, r, time.Time{}
	u.runs = append(u.runs, r)
	if len(u.runs) > keptRuns {
		u.runs = append([]*run(nil), u.runs[len(u.runs)-keptRuns:]...)
	}
	e.ripples.attribute(u, r, a)
	e.give(Start{Unit: u.spec.Name, Run: r.Number, Command: r.command})
	e.tellRun(u, TellRunOpens, ToneMoving, verb+": "+r.Because)
}

// working returns what a unit does while it is at it.
func (u *unit) working() (State, Phase, string) {
	if u.spec.Kind.Ends() {
		return Running, PhaseRunning, u.spec.Verb()
	}
	return Starting, PhaseStarting, u.spec.Verb()
}

// generations returns how many good runs each of what the unit follows has had.
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

// of returns the unit whose live run has that number, or nil.
func (e *Engine) of(name string, number int) *unit {
	u := e.byName[name]
	if u == nil || !u.live() || u.run.Number != number {
		return nil
	}
	return u
}

func (e *Engine) settingUp(ev SettingUp) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil || u.run.spawned || u.state == Stopping {
		return
	}
	if u.state != Setup {
		u.state = Setup
		u.run.endSpan(e.now)
		u.run.Spans = append(u.run.Spans, Span{Phase: PhaseSetup, From: e.now})
		e.enqueue(u)
	}
	e.tellRun(u, TellNote, ToneMoving, "prepares: "+ev.Step)
}

func (e *Engine) spawned(ev Spawned) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil || u.run.spawned {
		return
	}
	u.run.PID, u.run.spawned, u.run.spawnedAt = ev.PID, true, e.now
	if u.state == Setup {
		var phase Phase
		u.state, phase, _ = u.working()
		u.run.endSpan(e.now)
		u.run.Spans = append(u.run.Spans, Span{Phase: phase, From: e.now})
		e.enqueue(u)
	}
	if u.state != Starting {
		return
	}
	if rd := u.spec.Ready; rd.Probed() {
		e.arm(u, notReadyInTime, rd.Within)
	} else {
		e.arm(u, livedLongEnough, rd.After)
	}
}

func (e *Engine) notSpawned(ev NotSpawned) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil || u.run.spawned {
		return
	}
	u.run.Problem = ev.Problem
	switch u.ending {
	case byWish:
		e.ended(u, Off, "stopped before it had started")
	case toAct:
		e.ended(u, Waiting, "stopped before it had started")
	default:
		e.ended(u, Failed, "does not start: "+ev.Problem)
	}
}

func (e *Engine) becameReady(ev BecameReady) {
	if u := e.of(ev.Unit, ev.Run); u != nil && u.spec.Ready.Probed() {
		e.ready(u)
	}
}

func (e *Engine) probed(ev Probed) {
	if u := e.of(ev.Unit, ev.Run); u != nil {
		u.run.seen = ev.Saw
	}
}

func (e *Engine) ready(u *unit) {
	if u.state != Starting {
		return
	}
	u.state = Ready
	u.run.ReadyAt = e.now
	u.run.endSpan(e.now)
	e.tellRun(u, TellNote, ToneCurrent, "is ready after "+Duration(e.now.Sub(u.run.OrderedAt)))
	if u.deaths > 0 {
		e.arm(u, provenGood, goodStretch)
	}
	e.finishedAnew(u)
}

func (e *Engine) notReady(u *unit) {
	if u.state != Starting {
		return
	}
	rd := u.spec.Ready
	u.run.Problem = fmt.Sprintf("not ready within %s: waited for %s", Duration(rd.Within), rd)
	if u.run.seen != "" {
		u.run.Problem += ", last seen: " + u.run.seen
	}
	e.stop(u, lateReady)
	e.enqueue(u)
}

// finishedAnew notes a good run and hands it on to those who follow.
func (e *Engine) finishedAnew(u *unit) {
	u.generation++
	u.goodSaw, u.goodOf = u.run.saw, u.run.sawOf
	u.run.owed, u.run.good = debt{}, true
	u.suspects = nil
	e.enqueue(u)
	for _, r := range u.run.ripples {
		for _, f := range u.followers {
			switch {
			case f.wanted && f.run == nil:
				e.intend(f, r, "") // it was only waiting to start
			case f.wanted:
				e.intend(f, r, u.spec.Name+" "+u.finishedWord())
			}
		}
	}
	for _, d := range u.downstream {
		e.enqueue(d)
		if d.pending != nil && !d.pending.anyOpen() {
			for _, r := range u.run.ripples {
				e.intend(d, r, "")
			}
		}
	}
}

func (u *unit) finishedWord() string {
	if u.spec.Kind.Ends() {
		return "is done anew"
	}
	return "is ready anew"
}

func (e *Engine) exited(ev Exited) {
	u := e.of(ev.Unit, ev.Run)
	if u == nil {
		return
	}
	u.run.Exit = ev.Exit
	lived := Duration(e.now.Sub(u.run.OrderedAt))
	switch why := u.ending; {
	case why == lateReady:
		e.ended(u, Failed, "failed: "+u.run.Problem)
	case why == byWish || u.removed:
		e.ended(u, Off, "stopped after "+lived)
	case why == toAct:
		e.ended(u, Waiting, "stopped after "+lived)
	case !u.spec.Kind.Ends():
		e.crashed(u, lived)
	case ev.Exit.OK():
		e.ended(u, Done, "is done in "+lived)
		e.finishedAnew(u)
	default:
		e.ended(u, Failed, fmt.Sprintf("failed: %s after %s", ev.Exit, lived))
	}
}

// ended closes the live run and puts the unit into its next state.
func (e *Engine) ended(u *unit, s State, text string) {
	u.run.EndedAt = e.now
	u.run.endSpan(e.now)
	if s != Done {
		u.owed.add(u.run.owed) // it did not pay
	}
	u.state, u.ending = s, byItself
	tone := ToneNone
	switch {
	case s.Broken():
		tone = ToneBroken
	case s == Done:
		tone = ToneCurrent
	}
	e.tellRun(u, TellRunEnds, tone, text)
	e.enqueue(u)
	if e.leaving {
		e.enqueueAll()
	}
}

func (e *Engine) crashed(u *unit, lived string) {
	was := u.state
	text := fmt.Sprintf("crashed: %s after %s", u.run.Exit.words(), lived)
	if was == Starting {
		text += ", before it was ready"
	}
	if len(u.suspects) > 0 {
		text += "; changed since it last ran well: " + List(u.suspects)
	}
	e.ended(u, Crashed, text)
	if u.pending != nil {
		return // it is about to start anyway
	}
	if u.retries() {
		e.arm(u, retryNow, e.pause(u))
	} else if was == Ready {
		r := e.ripples.open(e.now, Cause{Kind: CauseCrash, Unit: u.spec.Name, Text: u.spec.Name + " " + text})
		r.take(u)
	}
}

func (r *run) endSpan(now time.Time) {
	if n := len(r.Spans); n > 0 && r.Spans[n-1].To.IsZero() {
		r.Spans[n-1].To = now
	}
}

func (e *Engine) tellRun(u *unit, kind TellKind, tone Tone, text string) {
	t := Tell{Kind: kind, Unit: u.spec.Name, Run: u.run.Number, Tone: tone, Text: text}
	if n := len(u.run.ripples); n > 0 {
		t.Ripple = u.run.ripples[n-1].ID
	}
	e.give(t)
}
