package engine

import (
	"slices"
	"time"

	"omnivigil/internal/plan"
)

// The engine knows reasons as values. Package explain puts them into words.

// ReasonKind is what made a unit act or opened a ripple.
type ReasonKind uint8

// The kinds of reasons, with the fields of Reason that they set.
const (
	ReasonNone         ReasonKind = iota
	ReasonProjectStart            // the project started
	ReasonFiles                   // files changed: Files, Count, What
	ReasonChangedBack             // files changed and changed back, and a run may have read them in between
	ReasonLeftUndone              // an earlier run has left work undone
	ReasonFollowed                // a unit that this one follows finished, or became ready, again: Unit, Ends
	ReasonNeeded                  // a unit that was started needs this one: Unit
	ReasonReleased                // what held the unit up is over: Unit
	ReasonLateReady               // a service became ready after its timeout: Unit
	ReasonReadyAgain              // a service that had failed a check is ready: Unit
	ReasonTookUp                  // a service picked up a change that no event reported: Unit
	ReasonCrash                   // a service exited without a request: Unit, End
	ReasonRetry                   // the same, after the pause before the next start: Unit, End
	ReasonCrashedOften            // the same, repeatedly: Count
	ReasonSettings                // the settings were edited: Settings
	ReasonNewUnit                 // the unit is new in the settings
	ReasonUnitSettings            // the unit's settings were edited: Text
	ReasonAsked                   // the user requested it
	ReasonAskedStart              // the same, as the cause of a ripple: Units
	ReasonAskedStop               // Units
	ReasonAskedRestart            // Units; none: all
	ReasonAskedOnly               // to enable only some units: Units; none: all
	ReasonAskedFor                // to run units for a change: Units, Files, Count, What
	ReasonAskedOnce               // to run units once with other arguments: Words
	ReasonArguments               // the user added arguments or, without any, removed them: Words
	ReasonNarrowed                // the user narrowed units: Units, Text (to what)
	ReasonWidened                 // the user requested all tests again: Units
	// the tests that it was narrowed to passed: Text (which), and Unit unless it is the reason of its own run
	ReasonNarrowPassed
	ReasonResumed // reactions were resumed: Units; none: all
)

// Reason is why a unit acts, or why a ripple was opened. It is immutable.
type Reason struct {
	Kind  ReasonKind
	Unit  string
	Units []string
	Files []string // the first few
	Count int      // the number of all files, or of repetitions
	What  string   // what happened to the only file; see Hit
	Ends  bool     // Unit's runs are meant to end
	Words []string // arguments
	Text  string   // from the settings or a user
	End   *End
	// Settings is the difference of the settings.
	Settings *plan.Difference
}

func (r Reason) equal(other Reason) bool {
	return r.Kind == other.Kind && r.Unit == other.Unit && r.Count == other.Count && r.What == other.What &&
		r.Text == other.Text && r.End == other.End && r.Settings == other.Settings &&
		slices.Equal(r.Units, other.Units) && slices.Equal(r.Files, other.Files) && slices.Equal(r.Words, other.Words)
}

// maxReasonFiles limits the files that a reason names; the others are counted.
const maxReasonFiles = 2

// filesChanged returns the reason for hits.
func filesChanged(hits []Hit) Reason {
	paths := pathsOf(hits)
	r := Reason{Kind: ReasonFiles, Files: slices.Clone(paths[:min(len(paths), maxReasonFiles)]), Count: len(paths)}
	for _, h := range hits {
		r.Count += h.More
	}
	if r.Count == 1 {
		r.What = hits[0].What
	}
	return r
}

// pathsOf returns the paths of hits, each once.
func pathsOf(hits []Hit) []string {
	if len(hits) == 1 {
		return []string{hits[0].Path}
	}
	seen := make(map[string]bool, len(hits))
	paths := make([]string, 0, len(hits))
	for _, h := range hits {
		if !seen[h.Path] {
			seen[h.Path] = true
			paths = append(paths, h.Path)
		}
	}
	return paths
}

func namesOf(units []*unit) []string {
	names := make([]string, len(units))
	for i, u := range units {
		names[i] = u.spec.Name
	}
	return names
}

// ProblemKind is what went wrong with a run, if its exit does not tell.
type ProblemKind uint8

const (
	ProblemNone     ProblemKind = iota
	ProblemTold                 // Text, from the system, a probe or a tool
	ProblemLate                 // not ready in time: Within, Text (what was waited for; empty: the first pass), Seen
	ProblemReported             // its output reports a failure: Report
	ProblemLimit                // it took longer than its limit, and was ended: Within
	ProblemSurvived             // the system did not end it, even killed
)

// Problem is why a run failed, if its exit does not tell. The zero value is none.
type Problem struct {
	Kind   ProblemKind
	Text   string
	Within time.Duration
	Seen   string // the last result of the ready check
	Report *Report
}

// IsZero reports whether there is no problem.
func (p Problem) IsZero() bool { return p.Kind == ProblemNone }

// told is a problem with a text from elsewhere.
func told(text string) Problem {
	if text == "" {
		return Problem{}
	}
	return Problem{Kind: ProblemTold, Text: text}
}

// End is how a run ended.
type End struct {
	State    State // the unit's state since
	Exit     *Exit // nil: no process was started
	Problem  Problem
	Lived    time.Duration
	ReadyAt  Moment    // zero: it never was
	Suspects []string  // of a crash: the files that changed since the unit last ran well
	Reused   time.Time // of a reused result: when its run ended; otherwise zero
	Restored bool      // and its outputs were restored
	MadeBy   string    // who has made it, if it comes from the team's share
}

// Failure is how a unit is broken.
type Failure struct {
	State   State
	Ran     bool // it is about a run
	Exit    Exit
	Problem Problem
	Report  *Report // the problems in that run's output; nil: none
}

// failure returns how the unit is broken; nil: it is not.
func (u *unit) failure() *Failure {
	if !u.state.Broken() {
		return nil
	}
	f := &Failure{State: u.state, Ran: u.run != nil}
	if f.Ran {
		f.Exit, f.Problem, f.Report = u.run.Exit, u.run.Problem, u.reportedWrong()
	}
	return f
}

// Trouble is a reason why a ripple did not end current.
type Trouble struct {
	Unit    string
	Failure *Failure      // of a broken unit
	Block   *Block        // of a unit that is stale, or did not run
	Ran     bool          // it is stale; otherwise it did not run
	Crashed time.Duration // how long after it was ready it crashed, if that was after the ripple's end; otherwise 0
}

// BlockKind is what keeps a unit from the newest code.
type BlockKind uint8

// The kinds of blocks, with the fields of Block that they set in addition to Unit.
const (
	BlockState    BlockKind = iota // its state: State
	BlockOutputs                   // its outputs are missing: Files
	BlockNarrowed                  // it is narrowed: To, NotRun
	BlockPaused                    // it is paused: Resume, Verb
	BlockAll                       // all reactions are paused: Resume, Verb
	BlockPass                      // none of its passes has picked up a save: Since
	BlockManual                    // it runs only on request
	BlockOwed                      // it still has to run a command: Command
	BlockNever                     // it was not started
)

// Block is what keeps a unit, and all units that wait for it, from the newest code.
type Block struct {
	Kind    BlockKind
	Unit    string
	State   State
	Files   []string
	To      string
	NotRun  int       // known cases that its newest run did not run; 0 also if that is unknown
	Since   time.Time // on the wall clock
	Command string
	Verb    string   // what it does on resume
	Resume  []Reason // and why; none: unknown
}

// Paused reports whether the block is a pause.
func (b Block) Paused() bool { return b.Kind == BlockPaused || b.Kind == BlockAll }

// RefusalKind is why a request was not carried out.
type RefusalKind uint8

const (
	RefusedNot         RefusalKind = iota // it was carried out
	RefusedEnding                         // the project is ending
	RefusedUnknownUnit                    // there is no unit with that name: Unit
	RefusedNoUnit                         // it must name units, or for Narrow also cases: Request
	RefusedService                        // a service cannot be narrowed: Unit
	RefusedUnknown                        // there is no such request: Request
)

// Refusal is why a request was not carried out. The zero value: it was.
type Refusal struct {
	Kind    RefusalKind
	Unit    string
	Request Request
}
