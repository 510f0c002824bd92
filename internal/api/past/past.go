// Package past is the part of the contract that is about a project's history across sessions. Its values are plain, as
// those of package api are.
package past

import (
	"time"

	"omnivigil/internal/api/seconds"
)

// Query selects a part of a project's history. The zero value selects the newest of everything.
type Query struct {
	What  Kind
	Units []string // names of units; empty: all
	// Since limits it to what began then or later; summaries to the days from that one on. Zero: all that is kept, and of
	// Tests the last thirty days.
	Since  time.Time
	Until  time.Time // and before; zero: now
	Branch string    // only what ran on this branch; empty: on any
	Test   Test      // of Days and Tests: only the test with this suite and name, of the first unit; empty: all
	// Of Runs: only those of a session by its name, and of its ripple with a number. Then they have Spans.
	Session string
	Ripple  int
	Count   int // at most so many, the newest; 0 is DefaultCount, and of Units all
}

// Limits of the number of rows.
const (
	DefaultCount = 200
	MaxCount     = 5000
)

// Kind is what a part of the history consists of.
type Kind string

const (
	Units   Kind = "units" // a summary of the runs of each unit
	Runs    Kind = "runs"
	Ripples Kind = "ripples"
	Tests   Kind = "tests" // a summary of each test, the most unreliable ones first
	Trends  Kind = "trends"
	Days    Kind = "days" // a summary of each unit, or of one test, on each day
	// Sessions are those that began within the time.
	Sessions Kind = "sessions"
)

// Kinds are all of them.
var Kinds = []Kind{Units, Runs, Ripples, Tests, Trends, Days, Sessions}

// History is a part of a project's history, newest first. Only what was asked for is set.
type History struct {
	From     time.Time `json:"from,omitzero"` // the oldest run that is kept
	Units    []Unit    `json:"units,omitempty"`
	Runs     []Run     `json:"runs,omitempty"`
	Ripples  []Ripple  `json:"ripples,omitempty"`
	Tests    []Test    `json:"tests,omitempty"`
	Trends   []Trend   `json:"trends,omitempty"`
	Days     []Day     `json:"days,omitempty"` // by unit, oldest first
	Sessions []Session `json:"sessions,omitempty"`
	More     bool      `json:"more,omitempty"` // there is more than was asked for
}

// Session is a session of the project.
type Session struct {
	Name  string    `json:"name"`
	Began time.Time `json:"began"`
	// Ended is when it ended, or when its state was written last if it is running or was killed.
	Ended   time.Time `json:"ended"`
	InOrder bool      `json:"in_order,omitempty"` // it ended, and was not killed
	Once    bool      `json:"once,omitempty"`     // of the command once
	Kept    bool      `json:"kept,omitempty"`     // its state is kept, and can be read
}

// Revision is what version control says of the files at a time.
type Revision struct {
	Commit string `json:"commit,omitempty"` // empty: the project is in no version control
	Branch string `json:"branch,omitempty"` // empty: none is checked out
	Clean  *bool  `json:"clean,omitempty"`  // the files are as committed; absent: not known
}

// Unit summarizes the runs of a unit. Durations are those of good runs, or until a service was ready.
type Unit struct {
	Unit     string          `json:"unit"`
	Kind     string          `json:"kind"`
	Runs     int             `json:"runs"`
	Broken   int             `json:"broken"` // that failed or crashed
	Least    seconds.Seconds `json:"least"`
	Quarter  seconds.Seconds `json:"quarter"`
	Median   seconds.Seconds `json:"median"`
	Three    seconds.Seconds `json:"three_quarters"`
	Most     seconds.Seconds `json:"most"`
	LastAt   time.Time       `json:"last_at"`
	LastBad  time.Time       `json:"last_bad,omitzero"`
	LastGood time.Time       `json:"last_good,omitzero"`
}

// Day summarizes the runs of a unit that ended on a day, or the results of a test in these.
type Day struct {
	Unit   string    `json:"unit"`
	Kind   string    `json:"kind,omitempty"`
	Day    time.Time `json:"day"` // when it began
	Runs   int       `json:"runs"`
	Broken int       `json:"broken"`          // that failed or crashed
	Flaky  int       `json:"flaky,omitempty"` // of a test: failures or recoveries without a change
	Took   Five      `json:"took"`            // seconds, of good runs
	Memory Five      `json:"memory"`          // bytes, medians of runs
	// When the newest run of the day began, and the newest that was broken or good.
	LastAt   time.Time `json:"last_at,omitzero"`
	LastBad  time.Time `json:"last_bad,omitzero"`
	LastGood time.Time `json:"last_good,omitzero"`
}

// Five is the least value, the quartiles and the greatest value.
type Five [5]float64

// Run is a run of any session.
type Run struct {
	Session  string          `json:"session"`
	Unit     string          `json:"unit"`
	Number   int             `json:"number"`
	Ripple   int             `json:"ripple,omitempty"`
	Because  string          `json:"because"`
	Command  string          `json:"command,omitempty"`
	Began    time.Time       `json:"began"`
	Ended    time.Time       `json:"ended"`
	Took     seconds.Seconds `json:"took,omitempty"` // of a good run, or until a service was ready
	Outcome  string          `json:"outcome"`        // done, failed, crashed, stopped, reused
	Exit     string          `json:"exit,omitempty"`
	Problem  string          `json:"problem,omitempty"`
	Loaded   bool            `json:"loaded,omitempty"`   // other programs loaded the machine
	Memory   int64           `json:"memory,omitempty"`   // bytes, the median; 0: not measured
	Output   int64           `json:"output,omitempty"`   // bytes
	Findings *int            `json:"findings,omitempty"` // absent: its output is not read
	Counts
	Spans []Span `json:"spans,omitempty"` // see Query.Ripple
	Revision
}

// Counts are the results of a run's tests.
type Counts struct {
	Passed  int `json:"passed,omitempty"`
	Failed  int `json:"failed,omitempty"`
	Skipped int `json:"skipped,omitempty"`
}

// Span is a part of a run's duration, or of the time before it.
type Span struct {
	Phase string    `json:"phase"` // debounce, queued, waiting, stopping, setup, starting, running
	From  time.Time `json:"from"`
	To    time.Time `json:"to,omitzero"`
	Step  string    `json:"step,omitempty"` // in setup: the command
	On    string    `json:"on,omitempty"`   // in waiting: the unit that it waited for
}

// Ripple is a ripple of any session.
type Ripple struct {
	Session string          `json:"session"`
	Number  int             `json:"number"`
	Title   string          `json:"title"`
	Cause   string          `json:"cause"`
	Since   time.Time       `json:"since"`
	Took    seconds.Seconds `json:"took"`
	Outcome string          `json:"outcome"`
	Detail  string          `json:"detail,omitempty"`
	Paths   []string        `json:"paths,omitempty"`
	Units   []string        `json:"units,omitempty"`
	Revision
}

// Test summarizes the results of a test.
type Test struct {
	Unit   string `json:"unit"`
	Suite  string `json:"suite,omitempty"`
	Name   string `json:"name,omitempty"`
	Runs   int    `json:"runs"`
	Failed int    `json:"failed"`
	Flaky  int    `json:"flaky"` // failures or recoveries without a change
	// Low and High are the 95 % confidence interval of the share of runs that failed.
	Low        float64         `json:"low"`
	High       float64         `json:"high"`
	Median     seconds.Seconds `json:"median"`
	LastFailed time.Time       `json:"last_failed,omitzero"`
	// Coincides names what its failures coincide with more often than by chance: Load, or units that ran.
	Coincides []string `json:"coincides,omitempty"`
}

// Load in Coincides is the load of other programs. It cannot be a unit's name.
const Load = "(load)"

// Title is the test's name for people.
func (t Test) Title() string {
	if t.Name == "" {
		return t.Suite
	}
	return t.Name
}

// Trend is something that has changed for longer than a run.
type Trend struct {
	ID        int64     `json:"id"`
	Kind      string    `json:"kind"`    // higher, lower, grows, flaky
	Measure   string    `json:"measure"` // duration, rest, memory, output, findings, failures
	Unit      string    `json:"unit,omitempty"`
	Units     []string  `json:"units,omitempty"` // of rest: those that a save runs
	Suite     string    `json:"suite,omitempty"`
	Test      string    `json:"test,omitempty"`
	Found     time.Time `json:"found"`
	Since     time.Time `json:"since"` // of the first run after it
	Run       int       `json:"run"`   // that run
	Before    float64   `json:"before"`
	After     float64   `json:"after"`
	Text      string    `json:"text"`
	Files     []string  `json:"files,omitempty"` // saved between the last run before it and that run
	MoreFiles int       `json:"more_files,omitempty"`
	From      string    `json:"from,omitempty"` // the commits of both, if they differ
	To        string    `json:"to,omitempty"`
	Dismissed bool      `json:"dismissed,omitempty"`
}

// Comparison is how the runs of two branches or commits differ.
type Comparison struct {
	RunsA       int          `json:"runs_a"`
	RunsB       int          `json:"runs_b"`
	Differences []Difference `json:"differences"` // by more than chance, the greatest first
}

// Difference is a unit or a test that differs.
type Difference struct {
	Unit    string  `json:"unit"`
	Suite   string  `json:"suite,omitempty"`
	Test    string  `json:"test,omitempty"`
	Measure string  `json:"measure"` // duration: A and B are medians in seconds; failures: shares of the runs
	A       float64 `json:"a"`
	B       float64 `json:"b"`
	Ratio   float64 `json:"ratio,omitempty"` // of durations: B compared with A, as estimated from all pairs
}

// Most is the greatest value.
func (f Five) Most() float64 { return f[4] }

// Rows are the runs, ripples, tests, trends or sessions that were asked for.
func (h History) Rows() (rows []any) {
	for _, r := range h.Runs {
		rows = append(rows, r)
	}
	for _, r := range h.Ripples {
		rows = append(rows, r)
	}
	for _, t := range h.Tests {
		rows = append(rows, t)
	}
	for _, t := range h.Trends {
		rows = append(rows, t)
	}
	for _, s := range h.Sessions {
		rows = append(rows, s)
	}
	return rows
}

// Oldest is when the last of the runs, ripples or trends began: those before it are asked for by Query.Until. It is
// zero if there are none.
func (h History) Oldest() time.Time {
	switch {
	case len(h.Runs) > 0:
		return h.Runs[len(h.Runs)-1].Began
	case len(h.Ripples) > 0:
		return h.Ripples[len(h.Ripples)-1].Since
	case len(h.Trends) > 0:
		return h.Trends[len(h.Trends)-1].Found
	}
	return time.Time{}
}
