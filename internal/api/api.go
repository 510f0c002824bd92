// Package api is the contract between a running project and whatever shows or controls it: the full screen, the plain
// stream, commands in a second terminal, editors, assistants. A running project implements Project. Package server
// carries it over a Unix socket, as docs/api.md describes, and package client makes a Project of it again.
//
// All values are plain: states and the like are words, times are RFC 3339 with nanoseconds, durations are seconds. A
// value that was returned never changes. Start reading at Project and Snapshot.
package api

import (
	"context"
	"errors"
	"fmt"
	"io"
	"time"

	"omnivigil/internal/api/changes"
	"omnivigil/internal/api/past"
	"omnivigil/internal/api/seconds"
)

// Version is the version of the contract. Faces with another version are refused.
const Version = 2

// Project is a running project. Its methods may be called from any goroutine. They block until they are answered or
// the context is done.
type Project interface {
	Record // of the running session

	// Session returns an earlier session by its name. A *Refusal tells that it is not kept.
	Session(ctx context.Context, name string) (Record, error)

	// Follow calls show with the current state of the project, and again whenever it has changed, at most MaxFrames
	// times a second. It returns nil after show got the last state of an ended project, and otherwise the error of
	// show or of the context. Until it returns, the face counts as attached, unless its kind is empty.
	Follow(ctx context.Context, face Face, show func(*Snapshot) error) error

	// Subscribe calls hear with each fact after the one with a number, in order. It returns nil when the project has
	// ended, and otherwise the error of hear or of the context. ErrGap: facts were requested that are no longer kept,
	// or hear was too slow; a snapshot has the state.
	Subscribe(ctx context.Context, since int64, hear func(Fact) error) error

	// Beats calls beat about once a second while the project's loop is running. It returns nil when the project has
	// ended, and otherwise the error of beat or of the context.
	Beats(ctx context.Context, beat func() error) error

	// Do carries out a request and returns what it has set off. A *Refusal tells why not.
	Do(ctx context.Context, r Request) (Answer, error)

	// Why returns what a save of a path would set off. The path is absolute or relative to the project's directory.
	Why(ctx context.Context, path string) (Impact, error)

	// Explain returns why a unit is in its state and, if a failure is the reason, everything about that failure. It
	// reads files.
	Explain(ctx context.Context, unit string) (Explanation, error)

	// Detail returns everything about one unit. It reads files and looks at processes.
	Detail(ctx context.Context, unit string) (Detail, error)

	// Observations returns what units were seen to do, and how that differs from their settings. Without names it
	// returns all that were observed. It reads directories.
	Observations(ctx context.Context, units []string) (Observations, error)

	// History returns a part of what is kept of this and earlier sessions. It reads a database; what happened in the
	// last two seconds may be missing. A *Refusal tells that there is none.
	History(ctx context.Context, q past.Query) (past.History, error)

	// Wait blocks until everything that was written before the call is at rest.
	Wait(ctx context.Context, q WaitQuery) (Waited, error)

	Terminal
}

// Record is what can be read of a session, running or ended. Its methods may be called from any goroutine.
type Record interface {
	// Snapshot returns the state of the project: now, or when the session ended. Of a session that was killed it is up
	// to a minute older.
	Snapshot(ctx context.Context) (*Snapshot, error)

	// VerdictAt returns a verdict of the session. A *Refusal tells that none is known.
	VerdictAt(ctx context.Context, q VerdictQuery) (PastVerdict, error)

	// Cases returns a page of test cases.
	Cases(ctx context.Context, q ResultQuery) (CasePage, error)

	// Case returns one test case with its output.
	Case(ctx context.Context, unit string, name CaseName) (Case, error)

	// Findings returns a page of findings.
	Findings(ctx context.Context, q ResultQuery) (FindingPage, error)

	// Changes returns what was changed by a ripple, or since a unit last ran well. It reads files. A *Refusal tells
	// that this is not kept.
	Changes(ctx context.Context, q changes.Query) (changes.Changes, error)

	// Samples returns a page of what units have used of the machine, in order of time. From is 0 or the Next of an
	// earlier page.
	Samples(ctx context.Context, from int64) (SamplePage, error)

	Log
}

// Log is the output of a project's processes and the events of Omnivigil. Its methods may be called from any
// goroutine. They read files, and so block.
type Log interface {
	// Lines returns a page of the log.
	Lines(ctx context.Context, q LineQuery) (Page, error)

	// Counts returns how many lines were written over time, by level.
	Counts(ctx context.Context, q CountQuery) (Counts, error)

	// Search searches for a pattern. It calls found with what it has found so far: at once when there is something,
	// then a few times a second, and a last time when it is done. It returns early with the error of found or of the
	// context.
	Search(ctx context.Context, q SearchQuery, found func(Found) error) error

	// Text writes lines as "15:04:05.000 NAME  text", with colors and links in them. Each Write is of whole lines. It
	// returns the number of the next line.
	Text(ctx context.Context, q TextQuery, w io.Writer) (int64, error)
}

// MaxFrames is the maximum number of snapshots a second for a face.
const MaxFrames = 30

// Frame is the minimum time between two snapshots.
const Frame = time.Second / MaxFrames

// ErrGap reports that facts in between are no longer available.
var ErrGap = errors.New("facts before these are not kept any more: take a snapshot")

// Refusal is why a request was not carried out.
type Refusal struct{ Text string }

func (r *Refusal) Error() string { return r.Text }

// Refuse returns a Refusal.
func Refuse(format string, args ...any) error { return &Refusal{fmt.Sprintf(format, args...)} }

// Seconds is a duration. In JSON it is a number of seconds.
type Seconds = seconds.Seconds

// Request is what a user or program requests of a project.
type Request struct {
	Action Action   `json:"action"`
	Units  []string `json:"units,omitempty"` // names of units and groups
	Words  []string `json:"words,omitempty"` // of AddWords and RunWith
	For    []string `json:"for,omitempty"`   // of Restart: paths; only what a save of them would set off is run
	Face   int      `json:"face,omitempty"`  // of FaceUsed: the face's process
	// Cases are those that Narrow narrows one unit to. Failing: its failing ones.
	Cases   []CaseName `json:"cases,omitempty"`
	Failing bool       `json:"failing,omitempty"`
}

// Action is what is requested.
type Action string

// The actions. Those of units require units, unless the comment tells what they do without.
const (
	Start   Action = "start"   // start or rerun units that are not running, and what they need
	Restart Action = "restart" // restart or rerun units; without any: every enabled unit
	SetUp   Action = "set-up"  // restart with the setup steps, even if their inputs are the same
	Stop    Action = "stop"    // stop units until a request starts them
	// enable units and what they need, and stop all others; without any: enable everything
	Only         Action = "only"
	Pause        Action = "pause"         // hold back the reactions to changes; without units: of all
	Resume       Action = "resume"        // act on the changes that were held back; without units: of all
	Dismiss      Action = "dismiss"       // dismiss the doubts about units; without any: all doubts
	Touch        Action = "touch"         // set the times of the files in doubt to now
	KeepIgnoring Action = "keep-ignoring" // keep ignoring the files of a unit's loop
	ReactAgain   Action = "react-again"   // react to them again
	WriteCure    Action = "write-cure"    // write into the settings file that they are ignored
	// write into the settings file what Observations proposes for units
	WriteRules Action = "write-rules"
	// add these arguments to the commands of units instead of earlier ones; none: remove them
	AddWords Action = "add-words"
	RunWith  Action = "run-with" // rerun or restart units once with these arguments added, and no others
	Narrow   Action = "narrow"   // run only some tests of a unit, until it is widened
	Widen    Action = "widen"    // run all of its tests again
	// restart units under observation; without any: every enabled unit
	Observe      Action = "observe"
	End          Action = "end"            // stop everything in order, then end the project
	EndNow       Action = "end-now"        // kill everything, then end the project
	LeaveRunning Action = "leave-running"  // keep running without a face, in the background
	EndWithFaces Action = "end-with-faces" // the opposite: end when the last face leaves
	ReadSettings Action = "read-settings"  // read the settings again, after the user has agreed to new ones
	FaceUsed     Action = "face-used"      // the user has used this face
)

// Answer is the result of a request.
type Answer struct {
	Ripple int    `json:"ripple,omitempty"` // 0: nothing had to be done
	Text   string `json:"text,omitempty"`   // a message to the user; may be empty
}

// LineQuery selects lines, by their numbers in the log. The zero value selects the first ones.
type LineQuery struct {
	Filter string    // in the language of package query; empty: all lines
	Unit   string    // of this unit, with Omnivigil's events about it; empty: of all units
	Run    int       // only of this run of the unit; 0: of all
	Count  int       // at most so many; 0 is DefaultLines
	From   int64     // from this line on
	To     int64     // with From: those before this line; 0: no limit
	Last   bool      // instead of From: the last ones
	End    int64     // instead of From: the last ones before this line; 0: no limit
	Until  time.Time // instead of From: the last ones written before
	Since  time.Time // instead of From: the first ones written then or later
	Move   int       // of the last ones: so many lines later; earlier if below 0
	Why    bool      // of Run: those that most likely tell why it ended as it did
	Fold   bool      // of the last ones: consecutive equal lines count as one
	// Similar: of the last ones, lines of one unit that are near each other and equal except for numbers, identifiers
	// and times count as one.
	Similar bool
	New     bool // mark the lines whose kind their unit has not written before the newest save
	Values  bool // add the values that can be followed
	Raw     bool // as they were written; otherwise lines of go test -json are what they print for people
}

// Limits of pages.
const (
	DefaultLines = 200
	MaxLines     = 5000
)

// Page is a part of the log. The next lines are those from End on; the previous ones are the last ones before From.
type Page struct {
	From  int64  `json:"from"`
	End   int64  `json:"end"`
	First int64  `json:"first"` // the number of the first line that is still kept
	Total int64  `json:"total"` // how many lines the log has had
	Lines []Line `json:"lines"`
	// Known is the number before which the kinds of lines are known, if New was asked for: of later lines, none is
	// marked yet.
	Known int64 `json:"known,omitempty"`
}

// CountQuery selects what Counts counts.
type CountQuery struct {
	Units   []string  // names of units; empty: all
	From    time.Time // the beginning of the first column
	Column  Seconds   // the length of a column; at least 0.1 s
	Columns int       // how many, at most MaxLines
}

// Counts is how many lines of output were written over time.
type Counts struct {
	Columns []Count `json:"columns"`
	// Known is the number of the line before which all lines are counted, and Total how many the log has: a log is
	// read at its own pace.
	Known int64 `json:"known"`
	Total int64 `json:"total"`
}

// Count is how many lines of output were written in a column.
type Count struct {
	At       time.Time `json:"at"`
	Lines    int       `json:"lines"`
	Warnings int       `json:"warnings,omitempty"` // that state a warning
	Errors   int       `json:"errors,omitempty"`   // that state an error, or report a failure
}

// SearchQuery is what to search for, and where.
type SearchQuery struct {
	Pattern string // text, or an expression as /EXPRESSION/; see package query
	Filter  string // as in LineQuery: only lines that match it are searched
	From    int64  // from this line on
	Back    bool   // or the lines before it, the last one first
	Most    int    // how many lines to return; 0: none
	Count   bool   // then count all matching lines
	Raw     bool   // as in LineQuery
}

// Found is what a search has found.
type Found struct {
	Lines    []Line `json:"lines,omitempty"` // since the report before, in the order of the search
	Matches  int64  `json:"matches"`         // matching lines so far
	Searched int64  `json:"searched"`        // lines searched so far
	Total    int64  `json:"total"`           // lines to search
	Done     bool   `json:"done"`
}

// Stream is the kind of a line.
type Stream string

const (
	Output Stream = "output" // written by a process
	Opens  Stream = "opens"  // Omnivigil's event that a run or pass begins
	Ends   Stream = "ends"   // that it has ended
	Note   Stream = "note"   // any other event
)

// Line is one line of the log.
type Line struct {
	Number int64     `json:"number"` // from 0, in the log of all units
	At     time.Time `json:"at"`
	Unit   string    `json:"unit,omitempty"` // empty: Omnivigil's event about the project
	Run    int       `json:"run,omitempty"`
	Ripple int       `json:"ripple,omitempty"` // that caused it
	Stream Stream    `json:"stream"`
	Tone   Tone      `json:"tone,omitempty"`
	Text   string    `json:"text"` // without the line end; may have color sequences and links
	// Continues: it continues the last line of its run, which was reported before it had an end: a prompt and what
	// was typed.
	Continues bool `json:"continues,omitempty"`
	Times     int  `json:"times,omitempty"` // of a folded line: the number of lines that it stands for; otherwise 0
	// Similar: those lines are not all equal; this one is the last of them.
	Similar bool `json:"similar,omitempty"`
	New     bool `json:"new,omitempty"` // see LineQuery.New
	// Values are the parts of the visible text that can be followed, each as the bytes from and to.
	Values []Value `json:"values,omitempty"`
}

// Value is a part of a line's visible text.
type Value struct {
	From   int  `json:"from"` // in bytes
	To     int  `json:"to"`
	Likely bool `json:"likely,omitempty"` // it probably identifies something
}

// Impact is what a save of one path would set off if everything were current.
type Impact struct {
	Path       string   `json:"path"`                  // relative to the project's directory
	Acts       []Act    `json:"acts,omitempty"`        // the units that the path affects
	Order      []Step   `json:"order,omitempty"`       // everything that would run, in order
	Makers     []string `json:"makers,omitempty"`      // the units that declare it as an output
	NotStarted []string `json:"not_started,omitempty"` // those of the affected units that do not run
	// Reads are the units that were seen to read it although no rule of theirs covers it.
	Reads []Reader `json:"reads,omitempty"`
	Text  []string `json:"text"` // the same in words, or why nothing would happen
}

// Act is a unit that a path affects.
type Act struct {
	Unit string `json:"unit"`
	Rule string `json:"rule"`
	Does string `json:"does"` // "restarts", "reruns", "is sent HUP", "runs COMMAND"
}

// Reader is a unit that was seen to read a file.
type Reader struct {
	Unit string    `json:"unit"`
	At   time.Time `json:"at"`
}

// Step is what one unit does as part of an impact.
type Step struct {
	Unit    string `json:"unit"`
	Does    string `json:"does"`
	Because string `json:"because"`
}

// WaitQuery is what to wait for.
type WaitQuery struct {
	Units   []string `json:"units,omitempty"`   // names of units and groups; empty: everything
	Timeout Seconds  `json:"timeout,omitempty"` // 0: no limit
}

// Waited is the result of waiting.
type Waited struct {
	OK       bool         `json:"ok"`        // everything is current
	TimedOut bool         `json:"timed_out"` // it was not at rest in time
	Verdict  Verdict      `json:"verdict"`   // of the project
	Doubts   []Doubt      `json:"doubts,omitempty"`
	Took     Seconds      `json:"took"`
	Trouble  []WaitedUnit `json:"trouble,omitempty"` // the units that are not current, broken ones first
}

// WaitedUnit is a unit that is not current.
type WaitedUnit struct {
	Unit      string    `json:"unit"`
	State     State     `json:"state"`
	Freshness Freshness `json:"freshness"`
	Run       int       `json:"run,omitempty"`
	Why       string    `json:"why,omitempty"`
	Line      *Line     `json:"line,omitempty"` // the first line of output that tells why
}
