// Package run is a unit's run from its order to its end: setup and prelude, the process and its terminal, its output as
// lines, what the lines mean (passes, test results, findings, prompts), and what it leaves for the next run.
//
// A run decides nothing: it reports what happens to the engine, by way of its Host, and does what it is ordered to. Its
// methods do not block unless they say so, since the session's loop calls them. Start reading at Live.Start.
package run

import (
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/redact"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/store/reuse"
	"omnivigil/internal/store/setup"
)

// Project is what the runs of a session share.
type Project struct {
	Host
	Root    string   // the project's directory
	Marks   []string // variables by which all its processes are known
	Spawner Spawner
	Book    Book
	Setup   *setup.Record
	Results *reuse.Results
	Tracked *Trackers
	Stopped <-chan struct{} // closed when the session is over
}

// Book takes the lines of runs.
type Book interface {
	Append(e logbook.Entry, texts ...string)
	AppendBlock(e logbook.Entry, block []byte)
}

// Host is what a run needs of its session. Its methods may be called from any goroutine. Those that look at files
// block.
type Host interface {
	Send(ev engine.Event)              // to the engine; it waits for room
	Say(e logbook.Entry, f api.Fact)   // into the session's account and the log
	Note(e logbook.Entry, text string) // the same, of words alone
	Moment(t time.Time) engine.Moment  // for the engine
	Plan() *plan.Plan                  // that is in use
	Hidden() *redact.Mask              // secrets
	Clean(text string) string          // as it may be shown
	Wrote(unit string, n int)          // counts bytes of output
	Attach(r *Live)                    // gives the run its terminal, which is the unit's
	Asks(r *Live, ask api.Ask)         // what the run waits for; without a kind: nothing
	// whether what a unit made may be of older files than those that are there
	InDoubt(unit string) bool
	// notes the outputs of a good run; the time of the oldest. It looks at files
	Made(u *plan.Unit, run int) time.Time
	Reused(u *plan.Unit, run int)                      // notes the outputs of an earlier run. It looks at files
	Newest(u *plan.Unit) time.Time                     // see engine.Exited. It looks at files
	Begin(r *Live, spec process.Spec) (Process, error) // starts the run's process, or a relay's server
}
