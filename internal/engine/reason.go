package engine

import (
	"slices"
	"time"

	"omnivigil/internal/plan"
)

// The engine knows reasons as values. Package explain puts them into words.

// ReasonKind is what made a unit act or opened a ripple.
type ReasonKind uint8

// The kinds of reasons. The comment at each says which fields of Reason it has.
const (
	ReasonNone         ReasonKind = iota
	ReasonProjectStart            // the project started
	ReasonFiles                   // files changed: Files, Count, What
	ReasonChangedBack             // files changed and changed back, and a run may have read them in between
	ReasonLeftUndone              // an earlier run did not do all of its work
	ReasonFollowed                // a unit that this one follows finished, or became ready, again: Unit, Ends
	ReasonNeeded                  // a unit that was started needs it: Unit
	ReasonReleased                // what held the unit up is gone: Unit
	ReasonLateReady               // a service became ready after its time: Unit
	ReasonReadyAgain              // a service that was in trouble is ready: Unit
	ReasonTookUp                  // a service picked up a change that no event reported: Unit
	ReasonCrash                   // a service ended without being asked to: Unit, End
	ReasonRetry                   // the same, and its pause before the next start is over: Unit, End
	ReasonCrashedOften            // as the reason of the run that follows: Count
	ReasonSettings                // the settings were edited: Settings
	ReasonNewUnit                 // the unit is new in the settings
	ReasonUnitSettings            // the unit's settings were edited: Text
	ReasonAsked                   // the user asked for it
	ReasonAskedStart              // the same, as what opened a ripple: Units
	ReasonAskedStop               // Units
	ReasonAskedRestart            // Units; none: all
	ReasonAskedFor                // to run units for a change: Units, Files, Count, What
	ReasonAskedOnce               // to run units once with other arguments: Words
	ReasonArguments               // the user added arguments, or without any took them away: Words
	ReasonNarrowed                // the user narrowed units: Units, Text (to what)
	ReasonWidened                 // the user asked for all tests again: Units
	// the tests that it was narrowed to passed: Text (which), and Unit unless it is the reason of its own run
	ReasonNarrowPassed
	ReasonResumed // reactions were resumed: Units; none: all
)

// Reason is why a unit acts, or why a ripple was opened. It does not change.
type Reason struct {
	Kind  ReasonKind
	Unit  string
	Units []string
	Files []string // the first few
	Count int      // of all files, or how often
	What  string   // happened to the only file; see Hit
	Ends  bool     // Unit is one whose runs are meant to end
	Words []string // arguments
	Text  string   // in the words of the settings or of a user
	End   *End
	// Settings is how the settings differ from those before.
	Settings *plan.Difference
}

func (r Reason) equal(other Reason) bool {
	return r.Kind == other.Kind && r.Unit == other.Unit && r.Count == other.Count && r.What == other.What &&
		r.Text == other.Text && r.End == other.End && r.Settings == other.Settings &&
		slices.Equal(r.Units, other.Units) && slices.Equal(r.Files, other.Files) && slices.Equal(r.Words, other.Words)
}

// maxReasonFiles is how many files a reason names; it counts the others.
const maxReasonFiles = 2

// filesChanged is the reason that hits are.
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

// ProblemKind is what went wrong with a run, where its exit does not say it.
type ProblemKind uint8

const (
	ProblemNone     ProblemKind = iota
	ProblemTold                 // Text, as the system, a probe or a tool said it
	ProblemLate                 // not ready in time: Within, Text (what was waited for; empty: the first pass), Seen
	ProblemReported             // its output reports a failure: Report
	ProblemSurvived             // the system did not end it, even killed
)

// Problem is why a run failed, where its exit does not say it. The zero value is none.
type Problem struct {
	Kind   ProblemKind
	Text   string
	Within time.Duration
	Seen   string // what the readiness probe saw last
	Report *Report
}

// IsZero reports whether there is no problem.
func (p Problem) IsZero() bool { return p.Kind == ProblemNone }

// told is a problem in others' words.
func told(text string) Problem {
	if text == "" {
		return Problem{}
	}
	return Problem{Kind: ProblemTold, Text: text}
}

// End is how a run ended.
type End struct {
	State    State // of the unit since
	Exit     *Exit // nil where no process was started
	Problem  Problem
	Lived    time.Duration
	ReadyAt  Moment    // zero where it never was
	Suspects []string  // of a crash: files that changed since the unit last ran well
	Reused   time.Time // when the run ended whose result was used instead; else zero
}

// Failure is how a unit is broken.
type Failure struct {
	State   State
	Ran     bool // there is a run that this is about
	Exit    Exit
	Problem Problem
	Report  *Report // what that run's output said is wrong; nil: nothing
}

// failure returns how the unit is broken, nil if it is not.
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
	Block   *Block        // of one that is stale, or did not run
	Ran     bool          // it is stale, and not one that did not run
	Crashed time.Duration // how long after it was ready it crashed, once the ripple had come to rest; else 0
}

// BlockKind is what keeps a unit from the newest code.
type BlockKind uint8

// The kinds of blocks. The comment at each says which fields of Block it has apart from Unit.
const (
	BlockState    BlockKind = iota // it is in that state: State
	BlockOutputs                   // outputs that it makes are missing: Files
	BlockNarrowed                  // it is narrowed: To
	BlockPaused                    // it is paused: Resume, Verb
	BlockAll                       // all reactions are paused: Resume, Verb
	BlockPass                      // no pass of it has picked up a save: Since
	BlockManual                    // it runs only when asked
	BlockOwed                      // it still has to run a command: Command
	BlockNever                     // it was not started
)

// Block is what keeps a unit, and all that wait for it, from the newest code.
type Block struct {
	Kind    BlockKind
	Unit    string
	State   State
	Files   []string
	To      string
	Since   time.Time // on the wall clock
	Command string
	Verb    string   // what it does on resume
	Resume  []Reason // and why; none: nothing that is known
}

// Paused reports whether it is a pause that keeps the unit.
func (b Block) Paused() bool { return b.Kind == BlockPaused || b.Kind == BlockAll }

// RefusalKind is why a request was not carried out.
type RefusalKind uint8

const (
	RefusedNot         RefusalKind = iota // it was carried out
	RefusedEnding                         // the project is about to end
	RefusedUnknownUnit                    // there is no unit of that name: Unit
	RefusedNoUnit                         // it has to name units, or of Narrow also cases: Request
	RefusedService                        // a service has no tests to narrow it to: Unit
	RefusedUnknown                        // there is no such request: Request
)

// Refusal is why a request was not carried out. The zero value says that it was.
type Refusal struct {
	Kind    RefusalKind
	Unit    string
	Request Request
}
