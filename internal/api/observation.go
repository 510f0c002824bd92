package api

import "time"

// Observations are what units were seen to do, and how that differs from their settings.
type Observations struct {
	Units      []Observation `json:"units"`
	Mismatches []Mismatch    `json:"mismatches"`
}

// Observation is what the processes of one unit were seen to do, in all observed runs of the same command. Paths are
// relative to the project's directory and below it; contents are never recorded.
type Observation struct {
	Unit string `json:"unit"`
	Run  int    `json:"run,omitempty"` // the newest observed run; 0: none in this session
	// Problem is why the unit cannot be observed, or what could not be; empty: nothing.
	Problem  string            `json:"problem,omitempty"`
	Last     time.Time         `json:"last,omitzero"` // when something new was seen last
	Reads    []ObservedRead    `json:"reads,omitempty"`
	Lists    []string          `json:"lists,omitempty"`   // directories whose entries were read
	Missing  []string          `json:"missing,omitempty"` // looked for, and did not exist; ignored ones last
	Writes   []ObservedWrite   `json:"writes,omitempty"`
	Removes  []string          `json:"removes,omitempty"`
	Programs []ObservedProgram `json:"programs,omitempty"`
	Listens  []string          `json:"listens,omitempty"`
	Connects []ObservedPeer    `json:"connects,omitempty"`
}

// ObservedRead is a file that was read.
type ObservedRead struct {
	Path string    `json:"path"`
	At   time.Time `json:"at"`
	// Rule is the pattern that covers it. Without one, Exempt is why none has to: the unit's "ignore" or "outputs",
	// version control, a unit that it follows, or the unit itself. Without both, no rule covers it.
	Rule   string `json:"rule,omitempty"`
	Exempt string `json:"exempt,omitempty"`
}

// ObservedWrite is a file that was written and exists.
type ObservedWrite struct {
	Path     string   `json:"path"`
	Declared bool     `json:"declared,omitempty"` // it is one of the unit's outputs
	Affects  []string `json:"affects,omitempty"`  // units whose rules match it
	ReadBy   []string `json:"read_by,omitempty"`  // other units that were seen to read it
}

// ObservedProgram is a program that was executed, with the arguments of the first time. Secrets in them are masked.
type ObservedProgram struct {
	Path string   `json:"path"` // relative to the project's directory if it is below that
	Args []string `json:"args,omitempty"`
}

// ObservedPeer is an address that was connected to.
type ObservedPeer struct {
	Address string `json:"address"`
	Unit    string `json:"unit,omitempty"` // that listens there
}

// Mismatch is a difference between a unit's settings and what it was seen to do.
type Mismatch struct {
	Unit     string       `json:"unit"`
	Kind     MismatchKind `json:"kind"`
	Severity Severity     `json:"severity"` // a note need not be acted on
	Text     string       `json:"text"`     // a sentence, without the unit's name
	Line     int          `json:"line,omitempty"`
	Files    []string     `json:"files,omitempty"` // some of them
	Count    int          `json:"count,omitempty"` // of all files
	Edits    []Edit       `json:"edits,omitempty"` // of the settings, that would settle it
}

// MismatchKind is the kind of a mismatch.
type MismatchKind string

// The kinds of mismatches.
const (
	UncoveredRead    MismatchKind = "uncovered-read"    // it reads files that none of its rules covers
	IncompleteKey    MismatchKind = "incomplete-key"    // the same of a task whose result is reused: that may be wrong
	IdleRule         MismatchKind = "idle-rule"         // it reads nothing that a rule covers
	UndeclaredOutput MismatchKind = "undeclared-output" // it writes files that concern units and are not its outputs
	UndeclaredNeed   MismatchKind = "undeclared-need"   // it connects to a unit that it does not need
	WeakReady        MismatchKind = "weak-ready"        // it counts as ready before it listens
	Unobserved       MismatchKind = "unobserved"        // something could not be observed
)

// Edit is an addition to a key of a unit in the settings file.
type Edit struct {
	Unit   string   `json:"unit"`
	Key    string   `json:"key"`              // "watch", "ignore", "outputs", "needs", "follows" or "ready"
	Values []string `json:"values,omitempty"` // to add to a list
	Port   int      `json:"port,omitempty"`   // of "ready"
	Text   string   `json:"text"`             // as a line of the settings file, with only what is added
}
