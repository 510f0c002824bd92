package api

import (
	"time"

	"omnivigil/internal/api/changes"
	"omnivigil/internal/api/past"
	"omnivigil/internal/text/location"
)

// Explanation is why a unit is in its state: what it does, and everything about the failure that is the reason. Faces
// show its parts in this order.
type Explanation struct {
	Unit    string   `json:"unit"`
	Account []string `json:"account"`          // its state in words, without its own failure
	Doubts  []Doubt  `json:"doubts,omitempty"` // about the unit
	// Failure is that of the unit or, if it is stale or waiting because another one is broken, of that one. Nil: it is
	// neither broken nor held up by a broken unit.
	Failure *Failure `json:"failure,omitempty"`
}

// Failure is everything known about how a unit failed, what it means for others, and what to do.
type Failure struct {
	Unit     string    `json:"unit"`
	Run      int       `json:"run"`
	State    State     `json:"state"`
	How      string    `json:"how"`             // in words, with the exit status
	At       time.Time `json:"at,omitzero"`     // when it ended; zero: its process is running
	Excerpts []Excerpt `json:"excerpts"`        // the failed tests, then the findings; the first few
	More     int       `json:"more,omitempty"`  // how many failed tests and findings come after these
	Lines    []Line    `json:"lines,omitempty"` // the lines of output that most likely tell the reason
	LastGood *LastGood `json:"last_good"`       // nil: it has not run well in this session
	Changed  []string  `json:"changed"`         // the files that changed since then
	// Changes are how some of these files have changed, if that is kept.
	Changes  []changes.File `json:"changes,omitempty"`
	Earlier  *Earlier       `json:"earlier,omitempty"` // its last failure before; nil: none is in the history
	Blocks   []Blocked      `json:"blocks,omitempty"`  // the units that cannot become current because of it
	Remedies []Remedy       `json:"remedies"`          // what to do, the most likely first
}

// Excerpt is a failed test or a finding, with the lines of the file around its location.
type Excerpt struct {
	Test     string   `json:"test,omitempty"`     // its name; empty: it is a finding
	Severity Severity `json:"severity,omitempty"` // of a finding
	Change   Change   `json:"change,omitempty"`   // from the run before
	Message  string   `json:"message"`
	Want     string   `json:"want,omitempty"` // of a test: the expected value, if known
	Got      string   `json:"got,omitempty"`  // the actual value
	location.Location
	// Source is the line at the location and those around it, as the file is now. Empty: there is no such file in the
	// project's directory.
	Source []SourceLine `json:"source,omitempty"`
}

// SourceLine is a line of a file.
type SourceLine struct {
	Number int    `json:"number"` // from 1
	Text   string `json:"text"`
}

// LastGood is the last run of a unit that was ready or succeeded.
type LastGood struct {
	Run int       `json:"run"`
	At  time.Time `json:"at"` // when it was ready or done
}

// Earlier is the last failure of a unit before it last ran well, and what fixed that, as far as the history knows.
type Earlier struct {
	At      time.Time `json:"at"`
	Run     int       `json:"run"` // in its session
	How     string    `json:"how"`
	FixedAt time.Time `json:"fixed_at"` // when the good run after it began
	// Because is why that run ran, such as "fares.csv changed".
	Because string `json:"because"`
	past.Revision
}

// Blocked is a unit that another one keeps from becoming current.
type Blocked struct {
	Unit      string    `json:"unit"`
	State     State     `json:"state"`
	Freshness Freshness `json:"freshness"`
}

// Remedy is something that a user can do about a failure.
type Remedy struct {
	Text              string `json:"text"`             // such as "restart it now"
	Action            Action `json:"action,omitempty"` // the request that does it; empty: none does
	location.Location        // the place to edit; without a file: none
}
