package engine

import "time"

// FactKind says what has happened.
type FactKind string

// The kinds of facts. The comment at each says which fields of Fact it has, apart from Kind, and from Unit, Run and
// Ripple, which are set wherever they make sense.
const (
	FactRunStarted    FactKind = "run-started"    // Verb, Reasons; Command where it is not the unit's own
	FactRunReady      FactKind = "run-ready"      // Took; zero where it was in trouble and is well again
	FactRunLate       FactKind = "run-late"       // a service is late, or fails a check, and keeps running: Problem
	FactRunEnded      FactKind = "run-ended"      // State, Took, Over
	FactRunKilled     FactKind = "run-killed"     // it did not end within its grace: Took
	FactRunStuck      FactKind = "run-stuck"      // it does not end, even killed: PID
	FactStepStarted   FactKind = "step-started"   // Command
	FactPassStarted   FactKind = "pass-started"   // Pass
	FactPassEnded     FactKind = "pass-ended"     // Pass, Took; State, and Problem where that is Failed
	FactPassMissed    FactKind = "pass-missed"    // Since: the save that was not taken up
	FactSignalSent    FactKind = "signal-sent"    // Signal, Reasons
	FactTargetMissing FactKind = "target-missing" // a reaction runs nothing: Files (changed), Problem (what is missing)
	FactRippleOpened  FactKind = "ripple-opened"  // Reasons
	FactRippleRested  FactKind = "ripple-rested"  // Outcome, Took, Over.Ripple
	FactUnitStale     FactKind = "unit-stale"     // Block
	FactUnitCurrent   FactKind = "unit-current"
	FactLoopStopped   FactKind = "loop-stopped" // Loop, Files (now ignored), Verb (empty: see ignoreResults)
	FactLoopForgotten FactKind = "loop-forgotten"
	FactSettingsUsed  FactKind = "settings-used" // Reasons; none where only an error has gone
	FactSettingsBad   FactKind = "settings-bad"  // Problem
	FactUnwatched     FactKind = "unwatched"     // files are not watched: Problem; without one, they are again
	FactPaused        FactKind = "paused"        // one unit, or without one all reactions
	FactResumed       FactKind = "resumed"
)

// Fact is something that has happened. The comment at each FactKind says which fields are set; package explain makes a
// sentence of it.
type Fact struct {
	Kind    FactKind
	Unit    string // empty where the whole project is meant
	Run     int    // 0 where no run is meant
	Pass    int
	Ripple  int // 0 where no ripple is meant
	Verb    string
	Reasons []Reason
	Command string
	Signal  string
	Problem Problem
	State   State
	Block   *Block
	Outcome Outcome
	Took    time.Duration
	Since   time.Time // on the wall clock
	At      time.Time // when it happened
	PID     int
	Files   []string
	Loop    *Loop
	Over    Over
}

// Over is what a fact says has ended. It does not change any more.
type Over struct {
	End    *End    // of FactRunEnded
	Run    *Run    // of FactRunEnded and FactRunReady
	Ripple *Ripple // of FactRippleRested
}

// Tone is the meaning that a fact has for the user.
type Tone uint8

const (
	ToneNone Tone = iota
	ToneCurrent
	ToneMoving
	ToneStale
	ToneBroken
)

// Tone returns the meaning that the fact has for the user.
func (f Fact) Tone() Tone {
	switch f.Kind {
	case FactRunStarted, FactStepStarted, FactPassStarted, FactRippleOpened:
		return ToneMoving
	case FactRunReady, FactSignalSent, FactSettingsUsed, FactUnitCurrent:
		return ToneCurrent
	case FactUnwatched:
		if f.Problem.IsZero() {
			return ToneCurrent
		}
		return ToneStale
	case FactRunLate, FactRunKilled, FactRunStuck, FactSettingsBad:
		return ToneBroken
	case FactPassMissed, FactLoopStopped, FactUnitStale:
		return ToneStale
	case FactPaused:
		if f.Unit == "" {
			return ToneStale
		}
	case FactPassEnded, FactRunEnded:
		switch {
		case f.State.Broken():
			return ToneBroken
		case f.State == Done, f.State == Ready:
			return ToneCurrent
		}
	case FactRippleRested:
		return map[Outcome]Tone{EndedCurrent: ToneCurrent, EndedStale: ToneStale, EndedBroken: ToneBroken}[f.Outcome]
	}
	return ToneNone
}

// Quiet reports whether the fact is reported by others as well, so that an account for
// people does without it.
func (f Fact) Quiet() bool {
	return f.Kind == FactUnitStale || f.Kind == FactUnitCurrent || f.Kind == FactResumed ||
		f.Kind == FactSettingsUsed && len(f.Reasons) > 0
}

// tell gives a fact to the account.
func (e *Engine) tell(f Fact) {
	f.At = e.now.Wall
	e.emit(Tell{f})
}

// tellRun tells something of a unit's newest run.
func (e *Engine) tellRun(u *unit, f Fact) {
	f.Unit, f.Run = u.spec.Name, u.run.Number
	f.Ripple = u.run.newestRipple()
	e.tell(f)
	e.show(u)
}
