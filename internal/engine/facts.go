package engine

import "time"

// FactKind is what has happened.
type FactKind string

// The kinds of facts. The comments tell which fields of Fact are set in addition to Kind and, where they make sense,
// Unit, Run and Ripple.
const (
	FactRunStarted    FactKind = "run-started"    // Verb, Reasons; Command if it is not the unit's own
	FactRunReady      FactKind = "run-ready"      // Took; zero: it had failed a check and is ready again
	FactRunLate       FactKind = "run-late"       // a service is late, or fails a check, and keeps running: Problem
	FactRunSlow       FactKind = "run-slow"       // a service is late, but busy: Took (what is left), Over.Run
	FactRunLong       FactKind = "run-long"       // a run takes much longer than usual: Took (so far), Over.Run
	FactRunEnded      FactKind = "run-ended"      // State, Took, Over
	FactRunKilled     FactKind = "run-killed"     // it did not end within its grace period: Took
	FactRunStuck      FactKind = "run-stuck"      // it survived SIGKILL: PID
	FactStepStarted   FactKind = "step-started"   // Command
	FactPassStarted   FactKind = "pass-started"   // Pass
	FactPassEnded     FactKind = "pass-ended"     // Pass, Took; State, and Problem where that is Failed
	FactPassMissed    FactKind = "pass-missed"    // Since: the save that was not picked up
	FactSignalSent    FactKind = "signal-sent"    // Signal, Reasons
	FactTargetMissing FactKind = "target-missing" // a reaction was skipped: Files (changed), Problem (what is missing)
	FactRippleOpened  FactKind = "ripple-opened"  // Reasons
	FactRippleRested  FactKind = "ripple-rested"  // Outcome, Took, Over.Ripple
	FactUnitStale     FactKind = "unit-stale"     // Block
	FactUnitCurrent   FactKind = "unit-current"
	FactLoopStopped   FactKind = "loop-stopped" // Loop, Files (now ignored), Verb (empty: see ignoreResults)
	FactLoopForgotten FactKind = "loop-forgotten"
	FactSettingsUsed  FactKind = "settings-used" // Reasons; none: only an error was fixed
	FactSettingsBad   FactKind = "settings-bad"  // Problem
	FactUnwatched     FactKind = "unwatched"     // files are not watched: Problem; without one, they are watched again
	FactPaused        FactKind = "paused"        // one unit or, without one, all reactions
	FactResumed       FactKind = "resumed"
)

// Fact is something that has happened. The comment at each FactKind tells which fields are set; package explain turns
// it into a sentence.
type Fact struct {
	Kind    FactKind
	Unit    string // empty: about the project
	Run     int    // 0: not about a run
	Pass    int
	Ripple  int // 0: not about a ripple
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

// Over is what has ended. It does not change any more.
type Over struct {
	End    *End    // of FactRunEnded
	Run    *Run    // of FactRunEnded, FactRunReady, FactRunSlow and FactRunLong; the last two are not over
	Ripple *Ripple // of FactRippleRested
}

// Tone is the meaning of a fact for the user.
type Tone uint8

const (
	ToneNone Tone = iota
	ToneCurrent
	ToneMoving
	ToneStale
	ToneBroken
)

// Tone returns the meaning of the fact for the user.
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
	case FactPassMissed, FactLoopStopped, FactUnitStale, FactRunSlow, FactRunLong:
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

// Quiet reports whether other facts report the same, so that an account for people can omit it.
func (f Fact) Quiet() bool {
	return f.Kind == FactUnitStale || f.Kind == FactUnitCurrent || f.Kind == FactResumed ||
		f.Kind == FactSettingsUsed && len(f.Reasons) > 0
}

// tell reports a fact.
func (e *Engine) tell(f Fact) {
	f.At = e.now.Wall
	e.emit(Tell{f})
}

// tellRun reports a fact about a unit's newest run.
func (e *Engine) tellRun(u *unit, f Fact) {
	f.Unit, f.Run = u.spec.Name, u.run.Number
	f.Ripple = u.run.newestRipple()
	e.tell(f)
	e.show(u)
}
