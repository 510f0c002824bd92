package engine

import (
	"time"

	"omnivigil/internal/plan"
)

// An Event is something that happened in the outer world. Events are plain
// values, so that a session can be written down and played again.
type Event interface{ event() }

// Begin starts the project. Units names the units to start with, those they
// wait for included; none means all that are not manual.
type Begin struct {
	Units []string
	// Hits are changes that the units are to run for, as far as they concern them, instead of
	// all that they would run.
	Hits  []Hit
	Words []string // added to the commands of Units
}

// Touched says that files which concern these units are being written. Their
// running processes are stale from now on; what to do is decided once the files
// have come to rest, by the Change of the same burst.
type Touched struct {
	Burst int
	Units []string
	// Written holds, for each of Units, the time that the newest of the files tells for
	// its change, before which it was not done. Empty where that is not known.
	Written []time.Time
}

// Observed answers an Observe order.
type Observed struct {
	Burst int
	Units []string
	Runs  []Observation
}

// Unchanged takes a Touched back for these units: what was written is what was
// there before. Hits are the files, where they are known.
type Unchanged struct {
	Burst int
	Units []string
	Hits  []Hit
}

// Change is a burst of file events at rest, as far as these units are concerned.
// Units with different debounces get the same burst in several Changes.
type Change struct {
	Burst int
	Since Moment // the burst's first file event
	Hits  []Hit
	Files int  // how many files there are in all, where Hits do not list all
	Made  bool // they are what the units have made, not what it is made from
}

// Hit is one path of a change that concerns one unit.
type Hit struct {
	Unit string
	Path string // relative to the project's folder, with forward slashes
	What string // created, written, removed, or Missed
	Rule string // the pattern that matched
	// Reaction is the position, from 1, of the unit's reaction that matched; 0
	// where its watch patterns did.
	Reaction int
	Captures map[string]string // what the reaction's pattern took of the path
	// Missing is what the reaction's command names by its captures and is not there, so
	// that it could only fail; empty where nothing is known to be missing.
	Missing string
	// TakenUp says that the unit takes the path up by itself, if it runs.
	TakenUp bool
	// More is how many further files ask for the same, which are not listed.
	More int
	// ModTime is the file's modification time, where the unit's program compares file times; else zero.
	ModTime time.Time
}

// Missed is What of a hit that stands for all that may have happened to a unit's files while they were not
// watched.
const Missed = "missed"

// PassBegan says that a service that picks up changes by itself has begun a pass, or that
// one has ended whose beginning nothing told.
type PassBegan struct {
	Unit string
	Run  int
	// After and By are two moments between which it began: at After, all that the
	// process had written was read.
	After, By Moment
	Guessed   bool // nothing that it wrote says so
}

// PassEnded says that the newest pass that has begun has ended.
type PassEnded struct {
	Unit string
	Run  int
	Good bool
	Saw  string // of one that ended badly: what it said first
}

// SettingsTouched says that the settings or env files are being written. It is
// followed by a NewPlan or PlanBroken of the same or a later burst.
type SettingsTouched struct{ Burst int }

// NewPlan says that the settings were edited and what they are now.
type NewPlan struct {
	Plan  *plan.Plan
	Burst int // of the writing that it holds
}

// PlanBroken says that the settings were edited and cannot be used: Problem says
// where and why. The plan before stays in use.
type PlanBroken struct {
	Problem string
	Burst   int
}

// Unwatched says that files are not watched, for the reason that Problem tells; without one, that they
// are again. What has changed in between is reported as any other change.
type Unwatched struct{ Problem string }

// SettingUp says that a step comes next, before the run's own process. It begins when
// that is answered by Proceed.
type SettingUp struct {
	Unit  string
	Run   int
	Step  string // what it runs
	Heavy bool   // it is a step of the setup, which takes a job
}

// Spawned answers a Start order: the run has a process.
type Spawned struct {
	Unit string
	Run  int
	PID  int
}

// NotSpawned answers a Start order that failed. Problem says why and what to do.
type NotSpawned struct {
	Unit    string
	Run     int
	Problem string
}

// Reused answers a Start order that may be answered so: the result of the unit's last good
// run holds, because nothing that it depends on has changed. No process was started.
type Reused struct {
	Unit string
	Run  int
	At   time.Time     // when that run ended
	Took time.Duration // and how long it took
}

// BecameReady says that what a service's ready setting waits for has come.
type BecameReady struct {
	Unit string
	Run  int
}

// Probed says what was last seen while waiting for a service to be ready.
type Probed struct {
	Unit string
	Run  int
	Saw  string
}

// Checked says what a look at a service or relay that has been ready found. It may be reported as often as it is looked
// at. Something of a relay that is missing counts when it was missing before.
type Checked struct {
	Unit    string
	Run     int
	Problem string // empty: it is well
}

// Asks says that a run waits for input, or that it does so no more.
type Asks struct {
	Unit   string
	Run    int
	Number int    // grows with each of a run: what comes late is old
	For    string // what it waits for, as "an answer: migrate? [y/N]"; empty: nothing
}

// Listens says that what a unit's run has spawned accepts connections.
type Listens struct {
	Unit string
	PID  int // of the run
}

// Exited says that a run's process has ended and its output is read to the end.
type Exited struct {
	Unit string
	Run  int
	Exit Exit
	// Newest is the newest modification time of the files below the unit's folder which do not concern it and
	// which no other unit makes; zero: there are none, or its program does not compare file times.
	Newest time.Time
	// Oldest is the oldest modification time of the unit's outputs then; zero: it has none, or its program
	// does not compare file times.
	Oldest time.Time
}

// OutputsGone says that what a task has made is not there any more, although nothing that it is made from
// has changed. Its files are reported as a change that has come to rest.
type OutputsGone struct {
	Unit  string
	Burst int
	Files []string
}

// OutputChanged says that something other than its task has changed what that has made.
type OutputChanged struct {
	Unit string
	File string
}

// TimerFired says that the time of a SetTimer order has come.
type TimerFired struct{ Timer TimerID }

// Requested is something that a user or program asks for. It is answered by an Answer.
// Units is empty for requests that concern the whole project.
type Requested struct {
	ID      int // of the asker's choice
	Request Request
	Units   []string
	Words   []string // of AddWords, RunWith and Narrow
	To      string   // of Narrow: to which cases, in words
	Hits    []Hit    // of RestartUnit: changes that the units are to run for, instead of all that they would
}

func (Begin) event()           {}
func (NewPlan) event()         {}
func (PlanBroken) event()      {}
func (Unwatched) event()       {}
func (OutputsGone) event()     {}
func (OutputChanged) event()   {}
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
func (TimerFired) event()      {}
func (Requested) event()       {}

// Request is what a user can ask for.
type Request string

const (
	StartUnit   Request = "start"   // start it, and what it needs
	StopUnit    Request = "stop"    // stop it, until it is started by request
	RestartUnit Request = "restart" // restart or rerun it, even if it is current
	// SetUpUnit is RestartUnit with its setup steps, whether their inputs changed or not.
	SetUpUnit  Request = "restart with setup"
	RestartAll Request = "restart all"
	Quit       Request = "quit"        // stop everything in order, then Finish
	QuitNow    Request = "quit now"    // kill everything, then Finish
	PauseAll   Request = "pause"       // keep changes, act on none
	ResumeAll  Request = "resume"      // act on what was kept
	PauseUnit  Request = "pause unit"  // the same for one unit
	ResumeUnit Request = "resume unit" //
	// Dismiss takes back the doubts about units, or about all.
	Dismiss Request = "dismiss doubts"
	// KeepIgnoring agrees that a unit does not react to what sets it off in a loop;
	// ReactAgain has it react to that again.
	KeepIgnoring Request = "keep ignoring"
	ReactAgain   Request = "react again"
	// AddWords has units run their commands with words added, instead of those added before;
	// without any, with none. RunWith is the same for one run.
	AddWords Request = "add words"
	RunWith  Request = "run with"
	// Narrow has units run some of their cases, by words added to their commands, instead of
	// those chosen before; Widen all of them again.
	Narrow Request = "narrow"
	Widen  Request = "widen"
)

// Exit is how a process ended.
type Exit struct {
	Code   int    // meaningful where Signal is empty
	Signal string // name of the signal that ended it, such as "SIGKILL"
	Core   bool   // the system wrote, or would have written, a core dump
}

// OK reports whether the process ended by itself with exit code 0.
func (x Exit) OK() bool { return x.Code == 0 && x.Signal == "" }

// An Order is something that the outer world is to do.
type Order interface{ order() }

// Start spawns a run. It is answered by Spawned or NotSpawned.
type Start struct {
	Unit    string
	Run     int
	Ripple  int // that it is begun for
	Command plan.Command
	Words   []string // added to the command
	Narrow  bool     // these have it run some of its cases only
	Same    bool     // nothing that concerns the unit has changed since its run before began
	Setup   bool     // do its setup steps even if nothing that they depend on has changed
	Reuse   bool     // its last good result will do, if it still holds: see Reused
}

// Proceed lets the step begin that SettingUp announced.
type Proceed struct {
	Unit string
	Run  int
}

// StopRun sends a signal that is to end everything a run started. KILL cannot be
// refused.
type StopRun struct {
	Unit string
	Run  int
	Name string // without SIG
}

// SendSignal sends a signal that is not meant to end a run to its own process, and to
// none that it has started.
type SendSignal struct {
	Unit string
	Run  int
	Name string // without SIG
}

// Observe asks for an Observed: what these runs have written since just before it was noticed
// that files of a burst were which concern these units.
type Observe struct {
	Burst   int
	Units   []string
	Noticed Moment
	Runs    []RunID
}

// Refresh asks that the open pages of a relay take up files: style sheets and images are swapped in place, and all else
// reloads them, or everything with Reload set.
type Refresh struct {
	Unit   string // the relay
	Files  []string
	Reload bool
}

// IgnoreFiles asks that changes of these files no longer be reported for the unit: they set it
// off in a loop. An empty list takes that back.
type IgnoreFiles struct {
	Unit  string
	Files []string
}

// TimerID names an armed timer.
type TimerID int

// SetTimer asks for a TimerFired after that time on the steady clock. Timers are never called
// back: one that has lost its meaning is ignored when it rings.
type SetTimer struct {
	Timer TimerID
	After time.Duration
}

// Tell asks for a fact to be entered into the account of what happens.
type Tell struct{ Fact }

// Answer answers a Requested of that ID.
type Answer struct {
	ID      int
	Ripple  int // that the request has opened; 0 where nothing had to be done
	Refusal Refusal
}

// Finish says that all runs have ended and the session can go.
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
