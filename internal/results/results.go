// Package results has the types of what a run's output means: cases, which are the results of single tests, and
// findings, which are the diagnostics of compilers, linters and runtimes with their locations. It also narrows a
// suite to some cases (Words).
//
// Package readers recognizes them in output and report files, and package record follows them from run to run. No
// command is ever altered to get results. Start reading at Case, Finding and Sink.
package results

import (
	"strings"
	"time"

	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/location"
)

// Status is the result of a case.
type Status string

const (
	Passed  Status = "passed"
	Failed  Status = "failed"
	Skipped Status = "skipped" // or expected to fail
)

// Case is one test's result in a run.
type Case struct {
	Suite    string // that contains it: a package, a class, a file; the runner's name for it
	Name     string // in the suite, levels separated by "/"; empty: the suite itself
	Status   Status
	Took     time.Duration
	Cached   bool              // the runner has repeated an earlier result
	Message  string            // of a failed or skipped case: the reason, in one or a few lines
	Want     string            // the expected and the actual value, if the output shows them
	Got      string            //
	Location location.Location // of the failure; zero: unknown
	Output   []string          // its output, at most MaxOutput lines
}

// MaxOutput and MaxKept limit what is kept of a case's output, in lines and in bytes of a line; LongestLine limits
// what is read of a line.
const (
	MaxOutput   = 400
	MaxKept     = 4 << 10
	LongestLine = 256 << 10
)

// MaxReport is the maximum size of a report file, in bytes.
const MaxReport = 256 << 20

// Title is the case's name for people: that of its suite if it has none.
func (c Case) Title() string {
	if c.Name == "" {
		return c.Suite
	}
	return c.Name
}

// Severity is the importance of a finding.
type Severity int

const (
	Note Severity = iota
	Warning
	Error
)

func (s Severity) String() string { return [...]string{"note", "warning", "error"}[s] }

// SeverityOf returns the severity for a tool's word, which may be longer, such as "fatal error".
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
		word == "ℹ",
		word == "help",
		word == "message",
		word == "remark":
		return Note
	}
	return Error
}

// Finding is a problem that a tool reports, with a location.
type Finding struct {
	location.Location
	Severity Severity
	// Assumed: the tool has not stated the severity, so it does not make a run fail.
	Assumed bool
	Rule    string   // the tool's name for the kind of problem; empty: none
	Message string   // in one line
	Notes   []string // what the tool adds
	// Trace: it comes from a stack trace, so the program reported it, not a tool about the program.
	Trace bool
}

// Identity is the message without what differs each time the same problem is reported: times, addresses in memory,
// local addresses with their ports, and process IDs.
func (f Finding) Identity() string {
	if !strings.ContainsAny(f.Message, ":-") && !strings.Contains(f.Message, "0x") && !strings.Contains(f.Message, "pid") {
		return f.Message
	}
	return varying.ReplaceAllString(f.Message, "_")
}

var varying = lazyregexp.New(
	`\b0x[0-9a-fA-F]{4,}\b|\b\d{4}-\d\d-\d\d\b|\b\d{1,2}:\d\d:\d\d(?:[.,]\d+)?\b` +
		`|(?:\b(?:localhost|127\.0\.0\.1)|\[::1\]):\d+\b|\bpid[ =:]+\d+\b`,
)

// Sink receives what a Reader finds.
type Sink interface {
	// Began reports that a case has begun.
	Began(suite, name string)
	// Ended reports a case, again if more is known of it.
	Ended(Case)
	// SuiteEnded reports that a suite has no more cases.
	SuiteEnded(SuiteEnd)
	// Planned reports that so many more cases will come.
	Planned(cases int)
	// Found reports a finding, again if it has got notes.
	Found(Finding)
}

// SuiteEnd is the end of a suite.
type SuiteEnd struct {
	Suite  string
	OK     bool
	Cached bool // the results are earlier ones
	// OnlyFailures: the runner reports only failures, so what was not reported did not fail.
	OnlyFailures bool
	// Unnamed: the suite's cases were reported with an empty name for it.
	Unnamed bool
	// Broken: the suite could not be run, so nothing is known of its cases.
	Broken bool
}

// Mark is the meaning of a line for a user who scrolls by.
type Mark int

const (
	NoMark Mark = iota
	MarkWarning
	MarkFailure
)

// Text is a finding in one line, in the form of compilers: file, line, column and message.
func (f Finding) Text() string { return f.Location.Text() + f.Message + f.detail() }

// detail returns what a message is about where it does not say so itself and the next line does: javac's symbol, the
// types that Rust expected and found. It is empty, or begins with a colon.
func (f Finding) detail() string {
	if len(f.Notes) == 0 {
		return ""
	}
	first := f.Notes[0]
	if name, is := strings.CutPrefix(first, "symbol:"); is {
		return ": " + strings.Join(strings.Fields(name), " ")
	}
	if strings.HasPrefix(first, Label) {
		return ": " + strings.TrimPrefix(first, Label)
	}
	return ""
}

// Label begins a note that a tool writes under the marked source.
const Label = "^ "
