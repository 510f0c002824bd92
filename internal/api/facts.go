package api

import "time"

// Fact is something that has happened. docs/api.md lists the fields of each kind. Text tells it in a sentence without
// the unit.
type Fact struct {
	ID      int64     `json:"id"` // ascending, from 1
	At      time.Time `json:"at"`
	Kind    string    `json:"kind"`
	Unit    string    `json:"unit,omitempty"`
	Run     int       `json:"run,omitempty"`
	Pass    int       `json:"pass,omitempty"`
	Ripple  int       `json:"ripple,omitempty"`
	Tone    Tone      `json:"tone,omitempty"`
	Text    string    `json:"text"`
	Verb    string    `json:"verb,omitempty"`
	Because string    `json:"because,omitempty"`
	Command string    `json:"command,omitempty"`
	Signal  string    `json:"signal,omitempty"`
	Problem string    `json:"problem,omitempty"`
	State   State     `json:"state,omitempty"`
	Exit    *Exit     `json:"exit,omitempty"`
	Outcome Outcome   `json:"outcome,omitempty"`
	Took    Seconds   `json:"took,omitempty"`
	Since   time.Time `json:"since,omitzero"`
	PID     int       `json:"pid,omitempty"`
	Files   []string  `json:"files,omitempty"`
	Loop    *Loop     `json:"loop,omitempty"`
	Address string    `json:"address,omitempty"`
	// RunWas is the run that has ended, RippleWas the ripple that has come to rest.
	RunWas    *Run    `json:"run_was,omitempty"`
	RippleWas *Ripple `json:"ripple_was,omitempty"`
}

// The kinds of facts that do not come from the engine. The others have the engine's names.
const (
	FactNote          = "note"           // any other event: Text
	FactAddressOpened = "address-opened" // Address
	FactResults       = "results"        // the change of cases and findings by a run: Text
	FactTrend         = "trend"          // a trend across runs that was just found: Text
	FactFaceCame      = "face-came"
	FactFaceLeft      = "face-left"
	FactEnded         = "ended" // the last fact of a session: everything has ended
)
