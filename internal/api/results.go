package api

import (
	"strings"
	"time"

	"omnivigil/internal/api/report"
	"omnivigil/internal/text/location"
)

// Report is a summary of a unit's tests and findings. It is kept from run to run: a run of some tests does not change
// the others.
type Report struct {
	report.Counts
	Usual    Seconds   `json:"usual,omitempty"`    // the duration of a whole run
	FailedAt time.Time `json:"failed_at,omitzero"` // the time of the first failed test in the newest run
	Text     string    `json:"text,omitempty"`     // the counts in words
	Trouble  string    `json:"trouble,omitempty"`  // the problems in words
}

// Change is the difference of a case or a finding from the run before.
type Change string

const (
	NewlyFailing Change = "newly failing"
	StillFailing Change = "still failing"
	NewlyPassing Change = "newly passing"
	NewFinding   Change = "new"
	StillThere   Change = "still"
	GoneFinding  Change = "gone" // reported until the next run
)

// Case is one test's result.
type Case struct {
	Unit    string     `json:"unit"`
	Suite   string     `json:"suite,omitempty"` // the package, class or file that contains it
	Name    string     `json:"name,omitempty"`  // levels separated by "/"; empty: the suite itself
	Status  CaseStatus `json:"status"`
	Change  Change     `json:"change,omitempty"`
	Flaky   bool       `json:"flaky,omitempty"` // its result changed without a change that affects it
	Slow    bool       `json:"slow,omitempty"`  // it took much longer than before
	Cached  bool       `json:"cached,omitempty"`
	Run     int        `json:"run"`  // the newest in which it ran; below 1: in an earlier session
	Took    Seconds    `json:"took"` //
	Message string     `json:"message,omitempty"`
	Want    string     `json:"want,omitempty"` // the expected value, if known
	Got     string     `json:"got,omitempty"`  // the actual value
	location.Location
	Past   []PastResult `json:"past,omitempty"`   // oldest first, including this one
	Output []string     `json:"output,omitempty"` // only if one case is requested
}

// Title is the case's name for people.
func (c Case) Title() string {
	if c.Name == "" {
		return c.Suite
	}
	return c.Name
}

// CaseStatus is the result of a case.
type CaseStatus string

const (
	CasePassed  CaseStatus = "passed"
	CaseFailed  CaseStatus = "failed"
	CaseSkipped CaseStatus = "skipped"
)

// PastResult is an earlier result of a case.
type PastResult struct {
	Status CaseStatus `json:"status"`
	Took   Seconds    `json:"took"`
	Both   bool       `json:"both,omitempty"` // it has passed and failed in the same run
}

// Finding is a problem that a tool reports, with a location.
type Finding struct {
	Unit     string   `json:"unit"`
	Also     []string `json:"also,omitempty"` // other units that report the same
	Severity Severity `json:"severity"`
	Rule     string   `json:"rule,omitempty"`
	Message  string   `json:"message"`
	Change   Change   `json:"change,omitempty"`
	Run      int      `json:"run"`
	location.Location
	Notes []string `json:"notes,omitempty"`
	// Trace: it comes from a stack trace, so the program reported it, not a tool about it.
	Trace bool `json:"trace,omitempty"`
}

// Severity is the importance of a finding.
type Severity string

const (
	SeverityError   Severity = "error"
	SeverityWarning Severity = "warning"
	SeverityNote    Severity = "note"
)

// ResultQuery selects cases or findings.
type ResultQuery struct {
	Units []string // names of units and groups; empty: all
	// Only is a kind: of cases failing, new, fixed, flaky, slow, skipped or passed; of findings error, warning, new
	// or gone. Empty: all.
	Only string
	Text string // only tests or findings that contain this text, in any case
	// By is the order of findings: "unit" groups them by unit. Otherwise they are grouped by file, files with new ones
	// come first, and what several units report comes once.
	By    string
	From  int // how many to skip
	Count int // at most so many; 0 is DefaultLines
	// At is the time of which the results are, as far as the history has them: without reasons, locations of tests and
	// output. Zero: the newest.
	At time.Time
}

// Reporters are the units that report the finding.
func (f Finding) Reporters() string { return strings.Join(append([]string{f.Unit}, f.Also...), ", ") }

// CasePage is a page of cases, the most important ones first.
type CasePage struct {
	From  int    `json:"from"`
	Total int    `json:"total"` // the number in all pages
	Cases []Case `json:"cases"`
}

// FindingPage is a page of findings, grouped by file.
type FindingPage struct {
	From     int       `json:"from"`
	Total    int       `json:"total"`
	Findings []Finding `json:"findings"`
}

// Matches reports whether a narrowing to this name runs a case: the case itself, those below it, or all of a suite.
func (n CaseName) Matches(c CaseName) bool {
	if n.Name == "" {
		return n.Suite == c.Suite
	}
	return (n.Suite == "" || n.Suite == c.Suite) && (n.Name == c.Name || strings.HasPrefix(c.Name, n.Name+"/")) ||
		n.Suite == "" && n.Name == c.Suite
}

// CaseName identifies a case of a unit.
type CaseName struct {
	Suite string `json:"suite,omitempty"`
	Name  string `json:"name,omitempty"`
}

// Left is the estimated remaining time of a run that began at a time, from its earlier durations; 0: unknown.
func (r Report) Left(began, now time.Time) time.Duration {
	usual := r.Usual.Duration()
	return max(usual-now.Sub(began), 0)
}
