package api

import (
	"time"

	"omnivigil/internal/api/report"
	"omnivigil/internal/text/location"
)

// Report is what is known of a unit's tests and findings, in a few numbers. It lives on from run
// to run: a run of some tests says nothing of the others.
type Report struct {
	report.Counts
	Usual    Seconds   `json:"usual,omitempty"`    // that a whole run takes
	FailedAt time.Time `json:"failed_at,omitzero"` // when the first test failed in the newest run
	Text     string    `json:"text,omitempty"`     // the numbers in words
	Trouble  string    `json:"trouble,omitempty"`  // what is wrong by them, in words
}

// Change is how a case or a finding stands against the run before.
type Change string

const (
	NewlyFailing Change = "newly failing"
	StillFailing Change = "still failing"
	NewlyPassing Change = "newly passing"
	NewFinding   Change = "new"
	StillThere   Change = "still"
	GoneFinding  Change = "gone" // told again, until the next run
)

// Case is one test's result.
type Case struct {
	Unit    string     `json:"unit"`
	Suite   string     `json:"suite,omitempty"` // the package, class or file that contains it
	Name    string     `json:"name,omitempty"`  // levels separated by "/"; empty: the suite itself
	Status  CaseStatus `json:"status"`
	Change  Change     `json:"change,omitempty"`
	Flaky   bool       `json:"flaky,omitempty"` // it changed its mind although nothing that concerns it had changed
	Slow    bool       `json:"slow,omitempty"`  // it took far longer than it used to
	Cached  bool       `json:"cached,omitempty"`
	Run     int        `json:"run"`  // the newest in which it ran; below 1: of an earlier session
	Took    Seconds    `json:"took"` //
	Message string     `json:"message,omitempty"`
	Want    string     `json:"want,omitempty"` // what was expected, where that is known
	Got     string     `json:"got,omitempty"`  // and what was there
	location.Location
	Past   []PastResult `json:"past,omitempty"`   // oldest first, this one included
	Output []string     `json:"output,omitempty"` // what it has written; only where one case is asked for
}

// Title is the case's name as people see it.
func (c Case) Title() string {
	if c.Name == "" {
		return c.Suite
	}
	return c.Name
}

// CaseStatus is how a case ended.
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

// Finding is a problem that a tool tells about a place.
type Finding struct {
	Unit     string   `json:"unit"`
	Severity Severity `json:"severity"`
	Rule     string   `json:"rule,omitempty"`
	Message  string   `json:"message"`
	Change   Change   `json:"change,omitempty"`
	Run      int      `json:"run"`
	location.Location
	Notes []string `json:"notes,omitempty"`
	// Trace says that it comes from a stack trace: the program said it, not a tool about it.
	Trace bool `json:"trace,omitempty"`
}

// Severity is how much a finding matters.
type Severity string

const (
	SeverityError   Severity = "error"
	SeverityWarning Severity = "warning"
	SeverityNote    Severity = "note"
)

// ResultQuery says which cases or findings are asked for.
type ResultQuery struct {
	Units []string // names of units and groups; empty: all
	// Only are those of one kind: of cases failing, new, fixed, flaky, slow, skipped or passed;
	// of findings error, warning, new or gone. Empty: all.
	Only string
	Text string // only tests whose names contain this text or messages, whatever its letters
	// By is how findings are ordered: "unit" has those of each unit together; else those of each
	// file are, and files with new ones come first.
	By    string
	From  int // how many to leave out at the beginning
	Count int // at most so many; 0 is DefaultLines
}

// CasePage is a part of the cases, those that matter first.
type CasePage struct {
	From  int    `json:"from"`
	Total int    `json:"total"` // how many there are, in all pages
	Cases []Case `json:"cases"`
}

// FindingPage is a part of the findings, those of each file together.
type FindingPage struct {
	From     int       `json:"from"`
	Total    int       `json:"total"`
	Findings []Finding `json:"findings"`
}

// CaseName names a case of a unit.
type CaseName struct {
	Suite string `json:"suite,omitempty"`
	Name  string `json:"name,omitempty"`
}

// Left is how long a run that has begun at that time has still to go, as far as its past tells; 0
// where that is not known.
func (r Report) Left(began, now time.Time) time.Duration {
	usual := r.Usual.Duration()
	return max(usual-now.Sub(began), 0)
}
