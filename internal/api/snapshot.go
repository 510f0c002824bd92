package api

import (
	"net/netip"
	"slices"
	"time"

	"omnivigil/internal/api/past"
)

// Snapshot is the state of a project at one moment. Snapshots share what is the same in them.
type Snapshot struct {
	Number  int64          `json:"number"` // ascending
	At      time.Time      `json:"at"`
	Project About          `json:"project"`
	Verdict Verdict        `json:"verdict"`
	Doubts  []Doubt        `json:"doubts,omitempty"` // why the verdict may be wrong although it is CURRENT
	Units   []*Unit        `json:"units"`            // in the order of the settings file
	Ripples []*Ripple      `json:"ripples"`          // oldest first, the newest few hundred
	Saves   []Save         `json:"saves"`            // oldest first
	Uses    map[string]Use `json:"uses"`             // what units use of the machine, by unit
	Asks    map[string]Ask `json:"asks"`             // the units that wait for input
	Faces   []Face         `json:"faces"`            // the attached faces
	Jobs    Jobs           `json:"jobs"`
	Status

	change change // from the snapshot before
}

// Status is the state of the whole project, without its verdict.
type Status struct {
	Paused     bool   `json:"paused"`     // all reactions are paused
	Quitting   bool   `json:"quitting"`   // everything is being stopped
	Ended      bool   `json:"ended"`      // everything has ended
	Background bool   `json:"background"` // it keeps running when its last face closes
	Trouble    bool   `json:"trouble"`    // the verdict became broken or stale and stayed so, and has not been current since
	Lines      int64  `json:"lines"`      // the number of lines in the log
	LogProblem string `json:"log_problem,omitempty"`
	// Broken is the number of ripples that ended broken, and Longest the save's ripple with the longest time to rest.
	// Both include ripples that are no longer kept.
	Broken  int     `json:"broken"`
	Longest Longest `json:"longest,omitzero"`
	// Settings is what is wrong with the newest edit of the settings, with its location; the earlier settings are in
	// use. Empty: nothing is wrong.
	Settings string `json:"settings,omitempty"`
}

// Longest is the save's ripple with the longest time to rest.
type Longest struct {
	ID      int     `json:"id"`
	Title   string  `json:"title"`
	Outcome Outcome `json:"outcome"`
	Took    Seconds `json:"took"`
}

// About is what does not change while a project runs, except by an edit of the settings.
type About struct {
	Name       string              `json:"name"`
	File       string              `json:"file"`    // the settings file
	Root       string              `json:"root"`    // its directory
	Session    string              `json:"session"` // identifies this session of the project
	Since      time.Time           `json:"since"`
	Logs       string              `json:"logs"`       // the directory of its log
	Supervisor int                 `json:"supervisor"` // the process that runs it
	Watchdog   int                 `json:"warden"`     // the process that guards the supervisor
	Groups     map[string][]string `json:"groups,omitempty"`
}

// Has returns the names that are units or groups of the project with these units, for names that apply to all projects.
func (a About) Has(units, names []string) (known []string) {
	for _, name := range names {
		if _, group := a.Groups[name]; group || slices.Contains(units, name) {
			known = append(known, name)
		}
	}
	return known
}

// Face is an attached face.
type Face struct {
	Kind string `json:"kind"` // screen, plain, or another name
	PID  int    `json:"pid,omitempty"`
	// Leave is how long the project waits for a face, if this was its last one and did not say that it leaves; 0: it
	// ends at once.
	Leave Seconds `json:"leave,omitempty"`
	// UsedAt is when the user last used it, as far as the face reports that.
	UsedAt time.Time `json:"used_at,omitzero"`
}

// Verdict is the project's state in one line.
type Verdict struct {
	Word VerdictWord `json:"word"`
	Text string      `json:"text"` // what follows the word
}

// Doubt is a reason why a unit may not be current although everything known says that it is.
type Doubt struct {
	Unit string `json:"unit"`
	// Kind is older-file, saved-during-run, not-watched, changed-output, uncovered-read or need-gone.
	Kind  string    `json:"kind"`
	File  string    `json:"file,omitempty"`
	What  string    `json:"what"`
	Ends  string    `json:"ends"` // what ends it
	Since time.Time `json:"since"`
}

// VerdictWord is the verdict in one word.
type VerdictWord string

const (
	VerdictCurrent  VerdictWord = "current"
	VerdictUpdating VerdictWord = "updating"
	VerdictStale    VerdictWord = "stale"
	VerdictBroken   VerdictWord = "broken"
	VerdictStopped  VerdictWord = "stopped" // no unit is enabled
)

// State is what a unit is doing.
type State string

const (
	Idle     State = "idle"    // never requested to run
	Waiting  State = "waiting" // for a need
	Setup    State = "setup"
	Starting State = "starting" // a service that is not ready yet
	Ready    State = "ready"
	Running  State = "running" // a task or suite
	Stopping State = "stopping"
	Done     State = "done"    // a task or suite that succeeded
	Failed   State = "failed"  // a task or suite that failed, or a service that was not ready in time
	Crashed  State = "crashed" // a service that exited without a request
	Stopped  State = "stopped" // by request
)

// Broken reports whether a unit in this state needs the user's attention.
func (s State) Broken() bool { return s == Failed || s == Crashed }

// Freshness tells whether a unit runs the newest code that affects it.
type Freshness string

const (
	NoCode   Freshness = "none" // it is stopped and not enabled, or broken
	Current  Freshness = "current"
	Updating Freshness = "updating"
	Stale    Freshness = "stale"
)

// Save is a save on the time axis.
type Save struct {
	At     time.Time `json:"at"`
	Ripple int       `json:"ripple"`
}

// Unit is one unit.
type Unit struct {
	Name      string    `json:"name"`
	Kind      string    `json:"kind"` // service, task, suite, relay
	Command   string    `json:"command"`
	Dir       string    `json:"dir"`                  // the working directory
	AsWritten bool      `json:"as_written,omitempty"` // JSON and logfmt lines are shown raw
	Needs     []string  `json:"needs,omitempty"`
	Follows   []string  `json:"follows,omitempty"`
	State     State     `json:"state"`
	Freshness Freshness `json:"freshness"`
	Why       string    `json:"why,omitempty"` // of a stale or waiting unit: what prevents it from becoming current
	Wanted    bool      `json:"wanted"`
	Paused    bool      `json:"paused,omitempty"`
	Words     []string  `json:"words,omitempty"`    // the arguments that a user has added to its command
	Narrowed  string    `json:"narrowed,omitempty"` // the tests that a user has narrowed it to
	Report    Report    `json:"report,omitzero"`    // its tests and findings
	Moving    bool      `json:"moving,omitempty"`   // it is not at rest
	Queued    bool      `json:"queued,omitempty"`   // another run follows the current one
	InLine    bool      `json:"in_line,omitempty"`  // it waits for a job
	Alone     bool      `json:"alone,omitempty"`    // it runs only while nothing else does
	RetryAt   time.Time `json:"retry_at,omitzero"`  // when a crashed service is restarted
	Run       Run       `json:"run,omitzero"`       // the newest; number 0: none
	Pass      Pass      `json:"pass,omitzero"`      // the newest pass of that run
	Suspects  []string  `json:"suspects,omitempty"` // the files that changed since it last ran well
	Owed      []string  `json:"owed,omitempty"`     // commands that a failed run has left undone
	Loop      *Loop     `json:"loop,omitempty"`     // a loop that was stopped; its files are ignored
	Marks     []Mark    `json:"marks,omitempty"`    // its states over time, oldest first
}

// Mark is a point in a unit's life: the state from At on.
type Mark struct {
	At    time.Time `json:"at"`
	State State     `json:"state"`
	Stale bool      `json:"stale,omitempty"`
	Run   int       `json:"run,omitempty"`
}

// Run is one execution of a unit. Missing times have not come yet.
type Run struct {
	Number    int       `json:"number"`
	Because   string    `json:"because,omitempty"`
	Command   string    `json:"command,omitempty"` // if it is not the unit's own
	Ripples   []int     `json:"ripples,omitempty"` // that it is part of, newest last
	PID       int       `json:"pid,omitempty"`
	OrderedAt time.Time `json:"ordered_at,omitzero"`
	ReadyAt   time.Time `json:"ready_at,omitzero"`
	EndedAt   time.Time `json:"ended_at,omitzero"`
	Exit      *Exit     `json:"exit,omitempty"` // set when its process has ended
	ReusedAt  time.Time `json:"reused_at,omitzero"`
	Restored  bool      `json:"restored,omitempty"` // and its outputs were restored
	MadeBy    string    `json:"made_by,omitempty"`  // who has made that result, if it comes from the team's share
	Problem   string    `json:"problem,omitempty"`
	// Pace is what is unusual about its duration while it is live: "slow (load 23)", "usually 20 s".
	Pace  string `json:"pace,omitempty"`
	Spans []Span `json:"spans,omitempty"`
}

// Exit is how a process ended.
type Exit struct {
	Code   int    `json:"code"` // valid if Signal is empty
	Signal string `json:"signal,omitempty"`
	Text   string `json:"text"` // "exit 3", "segmentation fault (SIGSEGV)"
}

// Pass is one round of work of a service that picks up changes by itself.
type Pass struct {
	Number  int       `json:"number"`
	BeganAt time.Time `json:"began_at,omitzero"`
	EndedAt time.Time `json:"ended_at,omitzero"`
	Good    bool      `json:"good,omitempty"`
	Saw     string    `json:"saw,omitempty"` // of a bad pass: its first message
}

// Span is a part of a run's duration, or of the time before it.
type Span = past.Span

// Loop is a loop that was stopped: what set a unit off repeatedly is now ignored.
type Loop struct {
	Files []string   `json:"files"`
	Round []LoopLink `json:"round"` // the units, from this unit back to it
	Noted bool       `json:"noted"` // the user has seen and accepted it
	Text  string     `json:"text"`  // Round in words
	Cure  string     `json:"cure"`  // the line in the settings that ends it permanently
}

// Alone reports whether the unit sets itself off.
func (l *Loop) Alone() bool { return len(l.Round) == 1 && l.Round[0].By == l.Round[0].Unit }

// LoopLink is a unit that was set off by another one.
type LoopLink struct {
	By    string   `json:"by"`
	Unit  string   `json:"unit"`
	Files []string `json:"files,omitempty"` // what By wrote; empty: Unit follows By
	Does  string   `json:"does"`
}

// Ripple is a cause and every run that it caused, until all are at rest.
type Ripple struct {
	ID        int       `json:"id"`
	Cause     Cause     `json:"cause"`
	Since     time.Time `json:"since"` // the first file event, or the time of the cause
	OpenedAt  time.Time `json:"opened_at"`
	RestAt    time.Time `json:"rest_at,omitzero"`
	Paths     []string  `json:"paths,omitempty"` // the first hundred
	Files     int       `json:"files,omitempty"` // the number of all paths
	Concerned []Concern `json:"concerned,omitempty"`
	Runs      []*RunRef `json:"runs,omitempty"`
	MoreRuns  int       `json:"more_runs,omitempty"` // how many runs came after those
	TookOver  []int     `json:"took_over,omitempty"` // earlier ripples whose work a run of this one did, too
	TakenBy   []int     `json:"taken_by,omitempty"`  // later ripples that did work of this one
	Outcome   Outcome   `json:"outcome"`
	Detail    string    `json:"detail,omitempty"` // why the outcome is not current
	Title     string    `json:"title"`            // the cause in a few words
}

// Resting reports whether everything that the ripple caused has ended.
func (r *Ripple) Resting() bool { return r.Outcome != Open }

// Cause is what opened a ripple: start, change, request, crash, settings, release or pass.
type Cause struct {
	Kind string `json:"kind"`
	Unit string `json:"unit,omitempty"`
	Text string `json:"text,omitempty"`
}

// Outcome is the project's state when a ripple came to rest.
type Outcome string

const (
	Open         Outcome = "open" // it is not at rest
	EndedCurrent Outcome = "current"
	EndedStale   Outcome = "stale"
	EndedBroken  Outcome = "broken"
)

// Concern is a unit that a change affects, and the pattern that matched.
type Concern struct {
	Unit string `json:"unit"`
	Rule string `json:"rule"`
}

// RunRef is a run, or a pass of one, with its duration when it is ready or over.
type RunRef struct {
	Unit   string `json:"unit"`
	Number int    `json:"number"`
	Pass   int    `json:"pass,omitempty"`
	// Because is why the run was ordered; empty for a pass, which a tool begins by itself.
	Because string  `json:"because,omitempty"`
	Took    Seconds `json:"took,omitempty"`
	Failed  bool    `json:"failed,omitempty"` // it failed, or was not ready in time
	Spans   []Span  `json:"spans,omitempty"`
}

// Jobs is how many tasks may run at once, and which do.
type Jobs struct {
	Most  int      `json:"most,omitempty"` // the maximum; 0: no limit
	Now   int      `json:"now,omitempty"`  // the maximum now: fewer while other programs use processors
	Taken int      `json:"taken"`
	Text  string   `json:"text,omitempty"`  // what waiting units wait for
	Alone string   `json:"alone,omitempty"` // what units that run alone wait for
	By    []string `json:"by,omitempty"`    // the units that have a job; the first few
}

// Use is what a unit uses of the machine, and its addresses.
type Use struct {
	CPU       float64          `json:"cpu"`    // of one core; 1 is a whole core
	Memory    int64            `json:"memory"` // resident bytes, of all its processes
	Addresses []netip.AddrPort `json:"addresses,omitempty"`
	// Of a relay: requests a second over the last ten seconds, how many of them it answered with an error of its own,
	// and how many pages are connected.
	Requests float64 `json:"requests,omitempty"`
	Failed   int64   `json:"failed,omitempty"`
	Pages    int     `json:"pages,omitempty"`
}

// Unit returns the unit of that name, or nil.
func (s *Snapshot) Unit(name string) *Unit {
	for _, u := range s.Units {
		if u.Name == name {
			return u
		}
	}
	return nil
}

// UnitNames returns the names of the units, in their order.
func (s *Snapshot) UnitNames() []string {
	names := make([]string, len(s.Units))
	for i, u := range s.Units {
		names[i] = u.Name
	}
	return names
}

// Ripple returns the ripple with that number, or nil.
func (s *Snapshot) Ripple(id int) *Ripple {
	for i := len(s.Ripples) - 1; i >= 0; i-- {
		if s.Ripples[i].ID == id {
			return s.Ripples[i]
		}
	}
	return nil
}

// WhyOf is what prevents a unit from becoming current; may be empty.
func (s *Snapshot) WhyOf(u *Unit) string {
	switch {
	case !u.InLine:
		return u.Why
	case u.Alone:
		return s.Jobs.Alone
	}
	return s.Jobs.Text
}

// LastSave returns the time of the last save before a time; zero: there is none.
func (s *Snapshot) LastSave(at time.Time) time.Time {
	for i := len(s.Saves) - 1; i >= 0; i-- {
		if !s.Saves[i].At.After(at) {
			return s.Saves[i].At
		}
	}
	return time.Time{}
}
