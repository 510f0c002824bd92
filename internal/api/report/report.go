// Package report holds the counts of a unit's test cases and findings: the one type in which they travel from the
// record of results through the engine's decisions to the faces. It is apart from package api so that the engine,
// which knows nothing of faces, can carry it. It decides nothing.
package report

// Counts is a summary of a unit's cases and findings. It is kept from run to run: a run of some cases does not change
// the others.
type Counts struct {
	Run     int `json:"run"`             // the newest that has reported something
	Version int `json:"version"`         // changes with every change
	Cases   int `json:"cases,omitempty"` // known cases
	// OnlyFailures: the runner reports only failing cases, so that the number of all cases is unknown.
	OnlyFailures bool   `json:"only_failures,omitempty"`
	Ran          int    `json:"ran,omitempty"`      // cases in the newest run
	Expected     int    `json:"expected,omitempty"` // cases that it will run; 0: unknown
	Running      string `json:"running,omitempty"`  // the case that is running; empty: none, or unknown
	Passed       int    `json:"passed,omitempty"`
	Failed       int    `json:"failed,omitempty"`
	FailedNow    int    `json:"failed_now,omitempty"` // of those, in the newest run
	Skipped      int    `json:"skipped,omitempty"`
	New          int    `json:"new,omitempty"`   // newly failing
	Fixed        int    `json:"fixed,omitempty"` // newly passing
	Flaky        int    `json:"flaky,omitempty"`
	Slow         int    `json:"slow,omitempty"`
	Errors       int    `json:"errors,omitempty"` // findings
	Warnings     int    `json:"warnings,omitempty"`
	Added        int    `json:"added,omitempty"` // new findings
	Gone         int    `json:"gone,omitempty"`  // findings that the newest run no longer reports
	// Names are some of the failed cases, newly failing ones first.
	Names []string `json:"names,omitempty"`
	First string   `json:"first,omitempty"` // the most important finding, with its location
}

// NotRun is how many of the known cases a run with a number did not run; 0 also if that is unknown.
func (c Counts) NotRun(run int) int {
	if c.Run != run || c.OnlyFailures {
		return 0
	}
	return max(c.Cases-c.Ran, 0)
}
