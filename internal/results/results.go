// Package results holds the types of what a run's output means: cases, which are the results of single tests, and
// findings, which are the diagnostics of compilers, linters and runtimes with their locations. It also says how a
// suite is narrowed to some cases (Words).
//
// Package readers recognizes them in output and report files, and package record follows them from run to run. No
// command is ever altered to get results. Start reading at Case, Finding and Sink.
package results

import (
	"strings"
	"time"

	"omnivigil/internal/text/location"
)

// Status is how a case ended.
type Status string

const (
	Passed  Status = "passed"
	Failed  Status = "failed"
	Skipped Status = "skipped" // or expected to fail
)

// Case is one test's result in a run.
type Case struct {
	Suite    string // what it is in: a package, a class, a file; as its runner names it
	Name     string // below the suite, levels separated by "/"; empty: the suite itself
	Status   Status
	Took     time.Duration
	Cached   bool              // the runner has told an earlier result again
	Message  string            // of one that failed or was skipped: why, in a line or a few
	Want     string            // what was expected and what was there, where the output tells them apart
	Got      string            //
	Location location.Location // where it failed; zero where that is not known
	Output   []string          // what it has written, at most MaxOutput lines
}

// MaxOutput and MaxKept bound what is kept of a case's output, in lines and in bytes of a line;
// LongestLine what is read of a line.
const (
	MaxOutput   = 400
	MaxKept     = 4 << 10
	LongestLine = 256 << 10
)

// MaxReport is how large, in bytes, a report file may be.
const MaxReport = 256 << 20

// Title is the case's name as people see it: that of its suite where it has none.
func (c Case) Title() string {
	if c.Name == "" {
		return c.Suite
	}
	return c.Name
}

// Severity is how much a finding matters.
type Severity int

const (
	Note Severity = iota
	Warning
	Error
)

func (s Severity) String() string { return [...]string{"note", "warning", "error"}[s] }

// SeverityOf reads a tool's word, which may be longer, such as "fatal error".
func SeverityOf(word string) Severity {
	word = strings.ToLower(word)
	switch {
	case strings.Contains(word, "warn"),
		word == "w",
		word == "style",
		word == "⚠",
		word == "refactor",
		word == "convention":
		return Warning
	case strings.Contains(word, "note"),
		strings.Contains(word, "info"),
		word == "hint",
		word == "help",
		word == "message",
		word == "remark":
		return Note
	}
	return Error
}

// Finding is a problem that a tool tells about a place.
type Finding struct {
	location.Location
	Severity Severity
	// Assumed says that the tool has not said how much it matters: that a run has failed does not follow
	// from it.
	Assumed bool
	Rule    string   // the tool's name for the kind of problem; empty if it says none
	Message string   // in one line
	Notes   []string // what the tool adds
	// Trace says that it comes from a stack trace: the program said it, not a tool about the
	// program.
	Trace bool
}

// Sink receives what a Reader finds.
type Sink interface {
	// Began says that a case has begun.
	Began(suite, name string)
	// Ended reports a case, and tells it again when more is known of it.
	Ended(Case)
	// SuiteEnded says that no more cases of a suite come.
	SuiteEnded(SuiteEnd)
	// Planned says that so many cases more are to come.
	Planned(cases int)
	// Found reports a finding, and tells it again when it has got notes.
	Found(Finding)
}

// SuiteEnd is how a suite ended.
type SuiteEnd struct {
	Suite  string
	OK     bool
	Cached bool // the results are earlier ones
	// OnlyFailures says that the runner has told no others: what was not told did not fail.
	OnlyFailures bool
	// Unnamed says that the suite's cases were reported with an empty name for it.
	Unnamed bool
	// Broken says that the suite could not be run, so that nothing is known of its cases.
	Broken bool
}

// Mark says what a line means for the user who scrolls by.
type Mark int

const (
	NoMark Mark = iota
	MarkWarning
	MarkFailure
)

// Text is a finding in a line, as editors read it: file, line, column and message.
func (f Finding) Text() string {
	return f.Location.Text() + f.Message
}
