// Package api is the contract between a running project and whatever shows or controls it: the full screen, the plain
// stream, commands in a second terminal, editors, assistants. A running project implements Project. Package server
// carries it over a Unix socket, as docs/api.md describes, and package client makes a Project of it again.
//
// All values are plain: states and the like are words, times are RFC 3339 with nanoseconds, durations are seconds.
// A value that was handed out never changes. Start reading at Project and Snapshot.
package api

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strconv"
	"time"
)

// Version is the version of the contract. Faces of another one are refused.
const Version = 2

// Project is one that runs. Its methods may be called from any goroutine. They block until
// they are answered or the context is done.
type Project interface {
	// Snapshot returns the project as it is now.
	Snapshot(ctx context.Context) (*Snapshot, error)

	// Follow calls show with the project as it is now and again whenever that has changed,
	// at most MaxFrames times a second. It returns nil when the project has ended and show
	// has seen that, and otherwise the error of show or of the context. While it continues,
	// the face counts as one of the project's, unless its kind is empty.
	Follow(ctx context.Context, face Face, show func(*Snapshot) error) error

	// Subscribe calls hear with each fact after the one with that number, in order, until
	// the project has ended, which returns nil, or the context has, or hear has an error.
	// ErrGap says that facts were asked for that are not kept any more, or that hear was
	// too slow: then a snapshot tells more.
	Subscribe(ctx context.Context, since int64, hear func(Fact) error) error

	// Beats calls beat about once a second, as long as the project's own loop goes round. It returns nil when
	// the project has ended, and otherwise the error of beat or of the context.
	Beats(ctx context.Context, beat func() error) error

	// Do does what is asked for and says what that has set off. A *Refusal says why not.
	Do(ctx context.Context, r Request) (Answer, error)

	// Why returns what a save of a path would set off; the path is absolute or relative to
	// the project's folder.
	Why(ctx context.Context, path string) (Impact, error)

	// Cases returns a part of what is known of tests.
	Cases(ctx context.Context, q ResultQuery) (CasePage, error)

	// Case returns one test with what it has written.
	Case(ctx context.Context, unit string, name CaseName) (Case, error)

	// Findings returns a page of the findings that tools have reported.
	Findings(ctx context.Context, q ResultQuery) (FindingPage, error)

	// Detail returns a unit whole. It looks at files and processes.
	Detail(ctx context.Context, unit string) (Detail, error)

	// Samples returns some of what units took of the machine over the session, in the order of
	// time, from a place on: 0, or what an earlier page says is next.
	Samples(ctx context.Context, from int64) (SamplePage, error)

	// Wait blocks until all that was written before the call has come to rest.
	Wait(ctx context.Context, q WaitQuery) (Waited, error)

	Log
	Terminal
}

// Log is what a project's processes and Omnivigil have written. Its methods may be called
// from any goroutine. They read files, and so block.
type Log interface {
	// Lines returns a part of the log.
	Lines(ctx context.Context, q LineQuery) (Page, error)

	// Search looks for a pattern and calls found with what it has found so far, at once
	// when there is something and else a few times a second, and a last time when it is
	// done. It returns early with the error of found or of the context.
	Search(ctx context.Context, q SearchQuery, found func(Found) error) error

	// Text writes lines as "15:04:05.000 NAME  text" with colors and links in them, from
	// one number up to another, but not farther than there are any. Each Write is of whole
	// lines. It returns the number of the line that comes next.
	Text(ctx context.Context, from, end int64, w io.Writer) (int64, error)
}

// MaxFrames is how many snapshots a face gets in a second, at most.
const MaxFrames = 30

// Frame is the least time between two snapshots.
const Frame = time.Second / MaxFrames

// ErrGap says that facts in between are not to be had any more.
var ErrGap = errors.New("facts before these are not kept any more: take a snapshot")

// Refusal is why a request was not carried out.
type Refusal struct{ Text string }

func (r *Refusal) Error() string { return r.Text }

// Refuse returns a Refusal.
func Refuse(format string, args ...any) error { return &Refusal{fmt.Sprintf(format, args...)} }

// Seconds is a duration, which JSON has as a number of seconds.
type Seconds time.Duration

// Duration returns it as the standard library's type.
func (s Seconds) Duration() time.Duration { return time.Duration(s) }

// MarshalJSON writes it as a number of seconds.
func (s Seconds) MarshalJSON() ([]byte, error) {
	return strconv.AppendFloat(nil, time.Duration(s).Seconds(), 'f', -1, 64), nil
}

// UnmarshalJSON reads a number of seconds, up to the length of some hundred years.
func (s *Seconds) UnmarshalJSON(text []byte) error {
	var f float64
	if err := json.Unmarshal(text, &f); err != nil {
		return err
	}
	const most = float64(1<<63-1) / 1e9
	if f < -most || f > most {
		return fmt.Errorf("%s seconds are too many", text)
	}
	*s = Seconds(f * 1e9)
	return nil
}

// Request is what a user or program asks of a project.
type Request struct {
	Action Action   `json:"action"`
	Units  []string `json:"units,omitempty"` // names of units and groups
	Words  []string `json:"words,omitempty"` // of AddWords and RunWith
	For    []string `json:"for,omitempty"`   // of Restart: paths; only what a save of them would run is run
	Face   int      `json:"face,omitempty"`  // of FaceUsed: the number of its process
	// Cases are those that Narrow narrows one unit to; Failing: to those that fail.
	Cases   []CaseName `json:"cases,omitempty"`
	Failing bool       `json:"failing,omitempty"`
}

// Action is what is asked for.
type Action string

// The actions. Those of units need units; the comment at each of the others says what they do without.
const (
	Start        Action = "start"         // start or rerun units that do not run, and what they need
	Restart      Action = "restart"       // restart or rerun units; without any: all that is wanted
	SetUp        Action = "set-up"        // restart with the setup steps, whether their inputs changed or not
	Stop         Action = "stop"          // stop units until they are started by request
	Pause        Action = "pause"         // keep changes and act on none; without units: of all
	Resume       Action = "resume"        // act on what was kept; without units: of all
	Dismiss      Action = "dismiss"       // take back the doubts about units, or about all
	Touch        Action = "touch"         // give the files whose times are in doubt the time that it is now
	KeepIgnoring Action = "keep-ignoring" // agree that a unit does not react to what sets it off in a loop
	ReactAgain   Action = "react-again"   // have it react to that again
	WriteCure    Action = "write-cure"    // write that it does not into the settings file
	// add these arguments to the commands of units instead of earlier ones; none: remove them
	AddWords     Action = "add-words"
	RunWith      Action = "run-with"      // rerun or restart units once with these words added, and no others
	Narrow       Action = "narrow"        // run only some tests of a unit, until it is widened
	Widen        Action = "widen"         // run all of its tests again
	End          Action = "end"           // stop everything in order, then end the project
	EndNow       Action = "end-now"       // kill everything, then end the project
	LeaveRunning Action = "leave-running" // keep running without a face, in the background
	FaceUsed     Action = "face-used"     // the user has used this face
)

// Answer is what a request has set off.
type Answer struct {
	Ripple int    `json:"ripple,omitempty"` // 0 where nothing had to be done
	Text   string `json:"text,omitempty"`   // what there is to say about it
}

// LineQuery says which lines are asked for, by their numbers in the log. The zero value asks
// for the first ones.
type LineQuery struct {
	Filter string    // in the language of package query; empty lets all lines through
	Unit   string    // of this unit, and what Omnivigil says of it; empty: of all
	Run    int       // of this run of the unit alone
	Count  int       // at most so many; 0 is DefaultLines
	From   int64     // those from this line on
	Last   bool      // instead of From: the last ones
	End    int64     // instead of From: the last ones before that line; 0 is none
	Until  time.Time // instead of From: the last ones that were written before
	Since  time.Time // instead of From: the first ones that were written then or later
	Move   int       // of the last ones: so many lines later than said; earlier if below 0
	Why    bool      // of Run, those that are most likely to say why it ended as it did
	Fold   bool      // of the last ones, several in a row that say the same count as one
}

// Limits of pages.
const (
	DefaultLines = 200
	MaxLines     = 5000
)

// Page is a part of the log. The next lines are those from End on, those before it the last
// ones before From.
type Page struct {
	From  int64  `json:"from"`
	End   int64  `json:"end"`
	First int64  `json:"first"` // number of the first line that is still kept
	Total int64  `json:"total"` // how many lines the log has had, of all units
	Lines []Line `json:"lines"`
}

// SearchQuery says what is looked for, and where.
type SearchQuery struct {
	Pattern string // text, or an expression as /EXPRESSION/; see package query
	Filter  string // as that of LineQuery: only in lines that it lets through
	From    int64  // from this line on
	Back    bool   // or in those before it, the last one first
	Most    int    // how many lines are to be found; 0 is none
	Count   bool   // then all lines that match are counted
}

// Found is what a search has found.
type Found struct {
	Lines    []Line `json:"lines,omitempty"` // since it was reported before, in the order of the search
	Matches  int64  `json:"matches"`         // lines that match, of those searched
	Searched int64  `json:"searched"`        // how many lines have been looked at
	Total    int64  `json:"total"`           // of so many
	Done     bool   `json:"done"`
}

// Stream says what a line is.
type Stream string

const (
	Output Stream = "output" // written by a process
	Opens  Stream = "opens"  // Omnivigil's note that a run or pass begins
	Ends   Stream = "ends"   // and that it has ended
	Note   Stream = "note"   // anything else that Omnivigil has to say
)

// Line is one line of the log.
type Line struct {
	Number int64     `json:"number"` // among all lines, from 0
	At     time.Time `json:"at"`
	Unit   string    `json:"unit,omitempty"` // empty where Omnivigil speaks of the project
	Run    int       `json:"run,omitempty"`
	Ripple int       `json:"ripple,omitempty"` // that has brought it about
	Stream Stream    `json:"stream"`
	Tone   Tone      `json:"tone,omitempty"`
	Text   string    `json:"text"` // without its end; may hold color sequences and links
	// Continues says that it continues the line of its run before, which was reported before it
	// had an end: a prompt and what was typed.
	Continues bool `json:"continues,omitempty"`
	Times     int  `json:"times,omitempty"` // of one that was folded, how often in a row; else 0
}

// Impact is what a save of one path would set off, were everything current.
type Impact struct {
	Path       string   `json:"path"`                  // relative to the project's folder
	Acts       []Act    `json:"acts,omitempty"`        // units that the path concerns
	Order      []Step   `json:"order,omitempty"`       // all that would run, in order
	Makers     []string `json:"makers,omitempty"`      // units that declare it as one of their outputs
	NotStarted []string `json:"not_started,omitempty"` // of those that the path concerns
	Text       []string `json:"text"`                  // the same in words, and why nothing would happen
}

// Act is a unit that a path concerns.
type Act struct {
	Unit string `json:"unit"`
	Rule string `json:"rule"`
	Does string `json:"does"` // "restarts", "reruns", "is sent HUP", "runs COMMAND"
}

// Step is one unit's part in what a save sets off.
type Step struct {
	Unit    string `json:"unit"`
	Does    string `json:"does"`
	Because string `json:"because"`
}

// WaitQuery says what is waited for.
type WaitQuery struct {
	Units   []string `json:"units,omitempty"`   // names of units and groups; empty: everything
	Timeout Seconds  `json:"timeout,omitempty"` // 0 is no limit
}

// Waited is how what was waited for has ended.
type Waited struct {
	OK       bool         `json:"ok"`        // all of it is current
	TimedOut bool         `json:"timed_out"` // it has not come to rest in time
	Verdict  Verdict      `json:"verdict"`   // of the project
	Doubts   []Doubt      `json:"doubts,omitempty"`
	Took     Seconds      `json:"took"`
	Trouble  []WaitedUnit `json:"trouble,omitempty"` // the units that are not current, the broken ones first
}

// WaitedUnit is a unit that is not current.
type WaitedUnit struct {
	Unit      string    `json:"unit"`
	State     State     `json:"state"`
	Freshness Freshness `json:"freshness"`
	Run       int       `json:"run,omitempty"`
	Why       string    `json:"why,omitempty"`
	Line      *Line     `json:"line,omitempty"` // the first line of its output that says why
}
