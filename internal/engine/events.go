package engine

import (
	"time"

	"omnivigil/internal/plan"
)

// An Event is something that happened in the outside world. Events are plain values, so that a session can be
// recorded and replayed.
type Event interface{ event() }

// Begin starts the project. Units names the units to start, including those that they wait for; none: all that are
// not manual.
type Begin struct {
	Units []string
	// Hits are the changes for which the units should run, instead of running everything.
	Hits  []Hit
	Words []string // added to the commands of Units
}

// Touched reports that files that affect these units are being written. Their running processes are stale from now
// on; what to do is decided when the files have settled, by the Change of the same burst.
type Touched struct {
	Burst int
	Units []string
	// Written holds, for each of Units, the newest change time of the files: the write was not complete before.
	// Empty: unknown.
	Written []time.Time
}

// Observed answers an Observe order.
type Observed struct {
	Burst int
	Units []string
	Runs  []Observation
}

// Unchanged takes a Touched back for these units: the files are what they were before. Hits are the files, if they
// are known.
type Unchanged struct {
	Burst int
	Units []string
	Hits  []Hit
}

// Change is a settled burst of file events, for these units. Units with different debounces get the same burst in
// several Changes.
type Change struct {
	Burst int
	Since Moment // the burst's first file event
	Hits  []Hit
	Files int  // the number of files, if Hits do not list all
	Made  bool // they are outputs of the units, not their inputs
}

// Hit is one path of a change that affects one unit.
type Hit struct {
	Unit string
	Path string // relative to the project's directory, with forward slashes
	What string // created, written, removed, or Missed
	Rule string // the pattern that matched
	// Reaction is the number, from 1, of the unit's reaction that matched; 0: its watch patterns did.
	Reaction int
	Captures map[string]string // what the reaction's pattern captured
	// Missing is a path that the reaction's command would name and that does not exist, so that it could only fail;
	// empty: none is known.
	Missing string
	// TakenUp: the unit picks the path up by itself, if it is running.
	TakenUp bool
	// More is how many further files with the same consequences are not listed.
	More int
	// ModTime is the file's modification time, if the unit's program compares file times; otherwise zero.
	ModTime time.Time
}

// Missed is What of a hit for everything that may have happened to a unit's files while they were not watched.
const Missed = "missed"

// PassBegan reports that a service that picks up changes by itself has begun a pass, or that one has ended whose
// beginning was not reported.
type PassBegan struct {
	Unit string
	Run  int
	// After and By are two times between which it began: at After, everything that the process had written had been
	// read.
	After, By Moment
	Guessed   bool // no output reported it
}

// PassEnded reports that the newest pass has ended.
type PassEnded struct {
	Unit  string
	Run   int
	Good  bool
	Saw   string // of a bad pass: its first message
	After Moment // it ended later than this; zero: unknown
}

// SettingsTouched reports that the settings or env files are being written. A NewPlan or PlanBroken of the same or a
// later burst follows.
type SettingsTouched struct{ Burst int }

// NewPlan reports that the settings were edited, with the new plan.
type NewPlan struct {
	Plan  *plan.Plan
	Burst int // the burst of writes that it includes
	// Problem tells which part of the saved settings is not in use, and why; empty: all of it is.
	Problem string
}

// PlanBroken reports that the settings were edited and are invalid: Problem tells where and why. The plan before
// stays in use.
type PlanBroken struct {
	Problem string
	Burst   int
}

// Unwatched reports that files are not watched, with the reason in Problem; without a reason, that they are watched
// again. What has changed in between is reported as other changes are.
type Unwatched struct{ Problem string }

// SettingUp announces a step before the run's own process. The step begins when Proceed answers.
type SettingUp struct {
	Unit  string
	Run   int
	Step  string // its command
	Heavy bool   // it is a setup step, which needs a job
}

// Spawned answers a Start order: the run has a process.
type Spawned struct {
	Unit string
	Run  int
	PID  int
}

// NotSpawned answers a Start order that failed. Problem tells why and what to do.
type NotSpawned struct {
	Unit    string
	Run     int
	Problem string
}

// Reused answers a Start order with Reuse: the result of an earlier good run is valid, because everything that it
// depends on is as it was then. No process was started.
type Reused struct {
	Unit string
	Run  int
	At   time.Time     // when that run ended
	Took time.Duration // its duration
	// Restored: its outputs had to be restored, so they have changed.
	Restored bool
	By       string // who has made it, if it comes from the team's share
}

// BecameReady reports that a service's ready check has succeeded.
type BecameReady struct {
	Unit string
	Run  int
}

// Probed reports the last result of a service's ready check that has not succeeded.
type Probed struct {
	Unit string
	Run  int
	Saw  string
}

// Checked reports the result of a check of a service or relay that has been ready. It may be reported at each check.
// Missing directories of a relay count if they were missing at the last check, too.
type Checked struct {
	Unit    string
	Run     int
	Problem string // empty: there is none
}

// Asks reports that a run waits for input, or no longer does.
type Asks struct {
	Unit   string
	Run    int
	Number int    // ascending for each run: late reports are ignored
	For    string // what it waits for, as "an answer: migrate? [y/N]"; empty: nothing
}

// Listens reports that a process of a unit's run accepts connections.
type Listens struct {
	Unit string
	PID  int // of the run
}

// Exited reports that a run's process has ended and its output has been read to the end.
type Exited struct {
	Unit string
	Run  int
	Exit Exit
	// Newest is the newest modification time of the files below the unit's directory that do not affect it and that
	// no other unit makes; zero: there are none, or its program does not compare file times.
	Newest time.Time
	// Oldest is the oldest modification time of the unit's outputs then; zero: it has none, or its program
	// does not compare file times.
	Oldest time.Time
}

// OutputsGone reports that outputs of a task no longer exist, although its inputs have not changed. The files are
// reported as a settled change.
type OutputsGone struct {
	Unit  string
	Burst int
	Files []string
}

// OutputChanged reports that something other than its task has changed an output.
type OutputChanged struct {
	Unit string
	File string
}

// Uncovered reports all files that a run was seen to read so far and that no rule of its unit covers.
type Uncovered struct {
	Unit  string
	Run   int
	Files []string
}

// TimerFired reports that the time of a SetTimer order has come.
type TimerFired struct{ Timer TimerID }

// Requested is a request of a user or program. An Answer answers it. Units is empty for requests about the whole
// project.
type Requested struct {
	ID      int // chosen by the requester
	Request Request
	Units   []string
	Words   []string // of AddWords, RunWith and Narrow
	To      string   // of Narrow: a description of the cases
	Hits    []Hit    // of RestartUnit: the changes for which the units should run, instead of running everything
}

func (Begin) event()           {}
func (NewPlan) event()         {}
func (PlanBroken) event()      {}
func (Unwatched) event()       {}
func (OutputsGone) event()     {}
func (OutputChanged) event()   {}
func (Uncovered) event()       {}
func (SettingsTouched) event() {}
func (Touched) event()         {}
func (Change) event()          {}
func (Unchanged) event()       {}
func (Checked) event()         {}
func (Observed) event()        {}
func (PassBegan) event()       {}
func (PassEnded) event()       {}
func (SettingUp) event()       {}
func (Spawned) event()         {}
func (NotSpawned) event()      {}
func (BecameReady) event()     {}
func (Probed) event()          {}
func (Asks) event()            {}
func (Exited) event()          {}
func (Reported) event()        {}
func (Listens) event()         {}
func (Reused) event()          {}
func (Surveyed) event()        {}
func (TimerFired) event()      {}
func (Requested) event()       {}

// Request is a kind of request.
type Request string

const (
	StartUnit   Request = "start"   // start it, and what it needs
	StopUnit    Request = "stop"    // stop it, until a request starts it
	RestartUnit Request = "restart" // restart or rerun it, even if it is current
	// SetUpUnit is RestartUnit with its setup steps, even if their inputs are the same.
	SetUpUnit  Request = "restart with setup"
	RestartAll Request = "restart all"
	Quit       Request = "quit"        // stop everything in order, then Finish
	QuitNow    Request = "quit now"    // kill everything, then Finish
	PauseAll   Request = "pause"       // hold back reactions to changes
	ResumeAll  Request = "resume"      // act on the changes that were held back
	PauseUnit  Request = "pause unit"  // the same for one unit
	ResumeUnit Request = "resume unit" //
	// Dismiss removes the doubts about units, or all doubts.
	Dismiss Request = "dismiss doubts"
	// KeepIgnoring accepts that a unit ignores the files of a loop; ReactAgain makes it react to them again.
	KeepIgnoring Request = "keep ignoring"
	ReactAgain   Request = "react again"
	// AddWords makes units run their commands with these arguments instead of those added before; without any, with
	// none. RunWith does that for one run.
	AddWords Request = "add words"
	RunWith  Request = "run with"
	// Narrow makes units run some of their cases, by arguments added to their commands; Widen makes them run all
	// again.
	Narrow Request = "narrow"
	Widen  Request = "widen"
	// Only enables units and what they need, and stops all others; without units, it enables everything.
	Only Request = "only"
)

// Exit is how a process ended.
type Exit struct {
	Code   int    // valid if Signal is empty
	Signal string // name of the signal that ended it, such as "SIGKILL"
	Core   bool   // the system wrote, or would have written, a core dump
}

// OK reports whether the process exited with status 0.
func (x Exit) OK() bool { return x.Code == 0 && x.Signal == "" }

// An Order is something for the outside world to do.
type Order interface{ order() }

// Start spawns a run. Spawned or NotSpawned answers it.
type Start struct {
	Unit    string
	Run     int
	Ripple  int // for which it is started
	Command plan.Command
	Words   []string // added to the command
	Narrow  bool     // these make it run only some of its cases
	Same    bool     // nothing that affects the unit has changed since its last run began
	Setup   bool     // run its setup steps even if nothing that they depend on has changed
	Reuse   bool     // its last good result is enough, if it is valid: see Reused
	Seek    bool     // and it may be looked for elsewhere: nobody waits for what a save sets off
}

// Proceed lets the announced step begin.
type Proceed struct {
	Unit string
	Run  int
}

// StopRun sends a signal that should end everything that a run started. KILL cannot be ignored.
type StopRun struct {
	Unit string
	Run  int
	Name string // without SIG
}

// SendSignal sends a signal that should not end the run to its own process, not to its descendants.
type SendSignal struct {
	Unit string
	Run  int
	Name string // without SIG
}

// Observe requests an Observed: what these runs have written since just before the first event of a burst that
// affects these units.
type Observe struct {
	Burst   int
	Units   []string
	Noticed Moment
	Runs    []RunID
}

// Refresh tells the open pages of a relay about files: style sheets and images are swapped in place, and everything
// else reloads the pages. With Reload, everything does.
type Refresh struct {
	Unit   string // the relay
	Files  []string
	Reload bool
}

// IgnoreFiles requests that changes of these files are no longer reported for the unit: they set it off in a loop. An
// empty list takes that back.
type IgnoreFiles struct {
	Unit  string
	Files []string
}

// TimerID identifies a timer.
type TimerID int

// SetTimer requests a TimerFired after a duration on the steady clock. Timers are never cancelled: one that has lost
// its meaning is ignored when it fires.
type SetTimer struct {
	Timer TimerID
	After time.Duration
}

// Tell adds a fact to the account of what happens.
type Tell struct{ Fact }

// Answer answers the Requested with an ID.
type Answer struct {
	ID      int
	Ripple  int // that the request has opened; 0: nothing had to be done
	Refusal Refusal
}

// Finish reports that all runs have ended and the session can end.
type Finish struct{}

func (Start) order()       {}
func (Proceed) order()     {}
func (StopRun) order()     {}
func (SendSignal) order()  {}
func (Observe) order()     {}
func (IgnoreFiles) order() {}
func (Refresh) order()     {}
func (SetTimer) order()    {}
func (Tell) order()        {}
func (Answer) order()      {}
func (Finish) order()      {}
