package api

import "time"

// Detail is everything about one unit: its settings, the files that match them, and its processes.
type Detail struct {
	Unit      string       `json:"unit"`
	File      string       `json:"file,omitempty"` // the settings that it is in
	Line      int          `json:"line,omitempty"` // of its table there
	Settings  []Setting    `json:"settings"`       // in the order in which a run uses them
	Rules     []RuleMatch  `json:"rules,omitempty"`
	Ignored   []string     `json:"ignored,omitempty"` // patterns of files that are ignored
	Variables []Variable   `json:"variables,omitempty"`
	Processes []ProcessUse `json:"processes,omitempty"` // parents before their children
	Outputs   []Made       `json:"outputs,omitempty"`   // its outputs
	Sizes     []MadeByRun  `json:"sizes,omitempty"`     // the total size of the outputs after its last good runs, oldest first
	// Observed is what it was seen to do; nil: it was never observed. Mismatches are how its settings differ from that.
	Observed   *Observation `json:"observed,omitempty"`
	Mismatches []Mismatch   `json:"mismatches,omitempty"`
	Pages      []OpenPage   `json:"pages,omitempty"` // of a relay: the connected pages
}

// Made is the files that match a pattern of a unit's outputs now.
type Made struct {
	Pattern string `json:"pattern"`
	Files   int    `json:"files"`
	Size    int64  `json:"size"` // bytes, of all of them
}

// MadeByRun is the total size of a unit's outputs after a good run.
type MadeByRun struct {
	Run  int   `json:"run"`
	Size int64 `json:"size"` // bytes
}

// OpenPage is a page in a browser that is connected to a relay.
type OpenPage struct {
	Browser     string    `json:"browser"` // such as "Firefox 140"
	Path        string    `json:"path"`
	Since       time.Time `json:"since"`
	RefreshedAt time.Time `json:"refreshed_at,omitzero"` // the last reload or swap
}

// Setting is one of a unit's settings, in words.
type Setting struct {
	Name string `json:"name"` // its key in the settings file
	Text string `json:"text"`
}

// RuleMatch is a pattern of a unit, and the files that match it now. A file counts for the first pattern that it
// matches.
type RuleMatch struct {
	Pattern string   `json:"pattern"`
	Line    int      `json:"line,omitempty"` // of the pattern in the settings file
	Does    string   `json:"does"`           // "restarts", "reruns", "is sent HUP", "runs COMMAND", "nothing"
	Files   int      `json:"files"`          // the number of matching files
	Some    []string `json:"some,omitempty"` // the first of them, relative to the project's directory
}

// Variable is an environment variable that the project sets for a unit.
type Variable struct {
	Name   string `json:"name"`
	Value  string `json:"value"` // empty: it is secret
	From   string `json:"from"`  // the env file, "settings", or "the machine" if that overrides a file
	Secret bool   `json:"secret,omitempty"`
}

// ProcessUse is a process of a unit's run, and what it uses of the machine.
type ProcessUse struct {
	PID     int       `json:"pid"`
	Parent  int       `json:"parent"`
	Command string    `json:"command"`
	Since   time.Time `json:"since"`
	CPUTime Seconds   `json:"cpu_time"` // since its start
	Memory  int64     `json:"memory"`   // resident bytes
}

// Sample is what a unit uses of the machine from a time on, until its next sample.
type Sample struct {
	At     time.Time `json:"at"`
	Unit   string    `json:"unit"`
	CPU    float64   `json:"cpu"`    // of one core; 1 is a whole core
	Memory int64     `json:"memory"` // resident bytes
	Output int64     `json:"output"` // bytes written since the session started
}

// SamplePage is a page of a session's samples. The next ones are those from Next on.
type SamplePage struct {
	Samples []Sample `json:"samples"`
	Next    int64    `json:"next"`
}
