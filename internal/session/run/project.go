// Package run is a unit's run from its order to its end: setup and prelude, the process and its terminal, its output as
// lines, what the lines mean (passes, test results, findings, prompts), and what it leaves for the next run.
//
// A run decides nothing: it reports what happens to the engine, through its Host, and carries out orders. Its methods
// do not block unless their comment says so, because the session's loop calls them. Start reading at Live.Start.
package run

import (
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/redact"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/process/observe"
	"omnivigil/internal/results"
	"omnivigil/internal/store/reuse"
	"omnivigil/internal/store/setup"
)

// Project is what the runs of a session share.
type Project struct {
	Host
	Root    string   // the project's directory
	Marks   []string // variables that identify all its processes
	Spawner Spawner
	Book    Book
	Setup   *setup.Record
	Results *reuse.Results
	Tracked *Trackers
	Stopped <-chan struct{} // closed when the session is over
	Session string          // its name, for traces; empty: runs are not traced
}

// Book stores the lines of runs.
type Book interface {
	Append(e logbook.Entry, texts ...string)
	AppendBlock(e logbook.Entry, block []byte)
}

// Host is what a run needs of its session. Its methods may be called from any goroutine. Those that look at files
// block.
type Host interface {
	Send(ev engine.Event)              // to the engine; blocks until there is room
	Say(e logbook.Entry, f api.Fact)   // adds a fact to the account and the log
	Note(e logbook.Entry, text string) // the same for text only
	Moment(t time.Time) engine.Moment  // the engine's form of a time
	Plan() *plan.Plan                  // the plan in use
	Hidden() *redact.Mask              // masks secrets
	Clean(text string) string          // makes text safe to show
	Wrote(unit string, n int)          // counts bytes of output
	Attach(r *Live)                    // makes the run's terminal that of its unit
	Asks(r *Live, ask api.Ask)         // sets what the run waits for; without a kind: nothing
	// returns whether the outputs of a unit may be from older files than the current ones
	InDoubt(unit string) bool
	// records the outputs of a good run, and returns the time of the oldest; looks at files
	Made(u *plan.Unit, run int) time.Time
	Left(u *plan.Unit)                                 // records the outputs after a bad run; looks at files
	Reused(u *plan.Unit, run int)                      // records the outputs of an earlier run; looks at files
	Newest(u *plan.Unit) time.Time                     // see engine.Exited; looks at files
	Begin(r *Live, spec process.Spec) (Process, error) // starts the run's process, or a relay's server
	// returns the log for a new run that is to be observed, and whether that was requested; nil: it is not
	Observe(u *plan.Unit, run int) (log *observe.Log, requested bool)
	NotObserved(unit string, why error) // records that a run cannot be observed
	// returns the last lines of a run's output, as they were written; reads files
	Lines(unit string, run, most int) []string
	Ended(u *plan.Unit) // stores what the run was seen to do; writes files
	// records the results of a run whose tests have ended; same: nothing that affects the unit had changed before it
	Tested(u *plan.Unit, run int, began time.Time, same bool, cases []results.Case)
}
