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
type Begin struct{ Units []string }

// Touched says that files which concern these units are being written. Their
// running processes are stale from now on; what to do is decided once the files
// have come to rest, by the Change of the same burst.
type Touched struct {
	Burst int
	Units []string
}

// Cleared says that a Touched was certainly not the doing of these units' own runs.
// For a unit that is Suspect it comes before the Change.
type Cleared struct {
	Burst int
	Units []string
}

// Unchanged takes a Touched back for these units: what was written is what was
// there before.
type Unchanged struct {
	Burst int
	Units []string
}

// Change is a burst of file events at rest, as far as these units are concerned.
// Units with different lulls get the same burst in several Changes.
type Change struct {
	Burst int
	Since time.Time // the burst's first file event
	Hits  []Hit
}

// Hit is one path of a change that concerns one unit.
type Hit struct {
	Unit string
	Path string // relative to the project's folder, with forward slashes
	What string // created, written, removed
	Rule string // the pattern that matched
	// Reaction is the position, from 1, of the unit's reaction that matched; 0
	// where its watch patterns did.
	Reaction int
	Captures map[string]string // what the reaction's pattern took of the path
}

// NewPlan says that the settings were edited and what they are now.
type NewPlan struct{ Plan *plan.Plan }

// PlanBroken says that the settings were edited and cannot be used: Problem says
// where and why. The plan before stays in force.
type PlanBroken struct{ Problem string }

// SettingUp says that a step that comes before the run's own process has begun.
type SettingUp struct {
	Unit string
	Run  int
	Step string // what it runs
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

// BecameReady says that what a service's ready setting waits for has come.
type BecameReady struct {
	Unit string
	Run  int
}

// Probed tells what was last seen while waiting for a service to be ready.
type Probed struct {
	Unit string
	Run  int
	Saw  string
}

// Exited says that a run's process has ended and its output is read to the end.
type Exited struct {
	Unit string
	Run  int
	Exit Exit
}

// Rang says that the time of an Arm order has come.
type Rang struct{ Timer TimerID }

// Wished is something that the person asks for. Unit is empty for wishes that
// concern the whole project.
type Wished struct {
	Wish Wish
	Unit string
}

func (Begin) event()       {}
func (NewPlan) event()     {}
func (PlanBroken) event()  {}
func (Touched) event()     {}
func (Change) event()      {}
func (Unchanged) event()   {}
func (Cleared) event()     {}
func (SettingUp) event()   {}
func (Spawned) event()     {}
func (NotSpawned) event()  {}
func (BecameReady) event() {}
func (Probed) event()      {}
func (Exited) event()      {}
func (Rang) event()        {}
func (Wished) event()      {}

// Wish is what a person can ask for.
type Wish string

const (
	StartUnit   Wish = "start"   // start it, and what it needs
	StopUnit    Wish = "stop"    // stop it and leave it off
	RestartUnit Wish = "restart" // restart or rerun it, even if it is current
	RestartAll  Wish = "restart all"
	Leave       Wish = "leave"       // stop everything in order, then Finish
	LeaveNow    Wish = "leave now"   // kill everything, then Finish
	PauseAll    Wish = "pause"       // keep changes, act on none
	ResumeAll   Wish = "resume"      // act on what was kept
	PauseUnit   Wish = "pause unit"  // the same for one unit
	ResumeUnit  Wish = "resume unit" //
	// LeaveUnitOut agrees that a unit does not react to what its own runs write;
	// HeedUnit has it react to that again.
	LeaveUnitOut Wish = "leave unit out"
	HeedUnit     Wish = "heed unit"
)

// Exit is how a process ended.
type Exit struct {
	Code   int    // meaningful where Signal is empty
	Signal string // name of the signal that ended it, such as "SIGKILL"
	Core   bool   // the system wrote, or would have written, a core dump
}

// OK reports whether the process ended by itself with exit code 0.
func (x Exit) OK() bool { return x.Code == 0 && x.Signal == "" }

// An Order is something that the outer world shall do.
type Order interface{ order() }

// Start spawns a run. It is answered by Spawned or NotSpawned.
type Start struct {
	Unit    string
	Run     int
	Command plan.Command
}

// Signal sends a signal to everything a run started. KILL cannot be refused.
type Signal struct {
	Unit string
	Run  int
	Name string // without SIG
}

// Nudge sends a signal to the process of a run that is not meant to end it.
type Nudge struct {
	Unit string
	Run  int
	Name string // without SIG
}

// LeaveOut asks that changes of these files no longer be told for the unit: its
// own runs write them. An empty list takes that back.
type LeaveOut struct {
	Unit  string
	Files []string
}

// TimerID names an armed timer.
type TimerID int

// Arm asks for a Rang at that time. Timers are never called back: one that has
// lost its meaning is ignored when it rings.
type Arm struct {
	Timer TimerID
	At    time.Time
}

// Tell is a line of Omnivigil's own account of what happens.
type Tell struct {
	Kind   TellKind
	Unit   string // empty where the whole project is meant
	Run    int    // 0 where no run is meant
	Ripple int    // 0 where no ripple is meant
	Tone   Tone
	Text   string // a whole sentence without its unit: "restarts: rules.toml changed"
}

// Tone is the meaning that a Tell has for the person.
type Tone uint8

const (
	ToneNone Tone = iota
	ToneCurrent
	ToneMoving
	ToneStale
	ToneBroken
)

// TellKind says what a Tell is about.
type TellKind uint8

const (
	TellNote     TellKind = iota
	TellRunOpens          // a run was ordered
	TellRunEnds           // a run has ended
	TellRipple            // a ripple opened or has come to rest
)

// Finish says that all runs have ended and the session can go.
type Finish struct{}

func (Start) order()    {}
func (Signal) order()   {}
func (Nudge) order()    {}
func (LeaveOut) order() {}
func (Arm) order()      {}
func (Tell) order()     {}
func (Finish) order()   {}
