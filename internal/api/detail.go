package api

import "time"

// Detail is one unit whole: what its settings come to, which files they match, and what runs.
type Detail struct {
	Unit      string       `json:"unit"`
	Line      int          `json:"line,omitempty"` // of its table in the settings file
	Settings  []Setting    `json:"settings"`       // in the order in which they matter to a run
	Rules     []RuleMatch  `json:"rules,omitempty"`
	Ignored   []string     `json:"ignored,omitempty"` // patterns of files that never count
	Variables []Variable   `json:"variables,omitempty"`
	Processes []ProcessUse `json:"processes,omitempty"` // parents before what they have started
	Outputs   []Made       `json:"outputs,omitempty"`   // what it has made
	Sizes     []MadeByRun  `json:"sizes,omitempty"`     // how large that was after its last good runs, oldest first
	Pages     []OpenPage   `json:"pages,omitempty"`     // of a relay: the pages that listen to it
}

// Made is what one of a unit's patterns of outputs matches now.
type Made struct {
	Pattern string `json:"pattern"`
	Files   int    `json:"files"`
	Size    int64  `json:"size"` // bytes, of all these files
}

// MadeByRun is how large all that a unit makes was when a run had ended well.
type MadeByRun struct {
	Run  int   `json:"run"`
	Size int64 `json:"size"` // bytes
}

// OpenPage is a page in a browser that listens to a relay.
type OpenPage struct {
	Browser     string    `json:"browser"` // such as "Firefox 140"
	Path        string    `json:"path"`
	Since       time.Time `json:"since"`
	RefreshedAt time.Time `json:"refreshed_at,omitzero"` // when it was last reloaded, or something of it swapped
}

// Setting is one of a unit's settings, in words.
type Setting struct {
	Name string `json:"name"` // as the settings file has it
	Text string `json:"text"`
}

// RuleMatch is a pattern of a unit, and which files it matches now. A file counts for the first
// pattern that matches it.
type RuleMatch struct {
	Pattern string   `json:"pattern"`
	Line    int      `json:"line,omitempty"` // in the settings file
	Does    string   `json:"does"`           // "restarts", "reruns", "is sent HUP", "runs COMMAND", "nothing"
	Files   int      `json:"files"`          // how many it matches
	Some    []string `json:"some,omitempty"` // the first of these, relative to the project's folder
}

// Variable is one of a unit's environment variables that does not only come from the machine.
type Variable struct {
	Name   string `json:"name"`
	Value  string `json:"value"` // empty where it is secret
	From   string `json:"from"`  // the env file, "settings", or "the machine" where that wins over a file
	Secret bool   `json:"secret,omitempty"`
}

// ProcessUse is a process of a unit's run, and what it takes of the machine.
type ProcessUse struct {
	PID     int       `json:"pid"`
	Parent  int       `json:"parent"`
	Command string    `json:"command"`
	Since   time.Time `json:"since"`
	CPUTime Seconds   `json:"cpu_time"` // since it began
	Memory  int64     `json:"memory"`   // resident bytes
}

// Sample is what a unit took of the machine from a moment on, until its next one.
type Sample struct {
	At     time.Time `json:"at"`
	Unit   string    `json:"unit"`
	CPU    float64   `json:"cpu"`    // of one core; 1 is all of it
	Memory int64     `json:"memory"` // resident bytes
	Output int64     `json:"output"` // bytes written since the session began
}

// SamplePage is a part of a session's samples. The next ones are those from Next on; there are
// none yet where it is empty.
type SamplePage struct {
	Samples []Sample `json:"samples"`
	Next    int64    `json:"next"`
}
