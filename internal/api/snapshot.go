package api

import (
	"net/netip"
	"time"
)

// Snapshot is a project at one moment. What is the same in two snapshots may be shared.
type Snapshot struct {
	Number  int64          `json:"number"` // grows from one to the next
	At      time.Time      `json:"at"`
	Project About          `json:"project"`
	Verdict Verdict        `json:"verdict"`
	Doubts  []Doubt        `json:"doubts,omitempty"` // why that may be wrong where it is current
	Units   []*Unit        `json:"units"`            // in the order of the settings file
	Ripples []*Ripple      `json:"ripples"`          // oldest first, the newest few hundred
	Saves   []Save         `json:"saves"`            // oldest first
	Uses    map[string]Use `json:"uses"`             // what units take of the machine, by unit
	Asks    map[string]Ask `json:"asks"`             // the units that wait for input, and for what
	Faces   []Face         `json:"faces"`            // who looks at it
	Jobs    Jobs           `json:"jobs"`
	Status

	change change // since the snapshot before it
}

// Status is what is true of the whole project, apart from its verdict.
type Status struct {
	Paused     bool   `json:"paused"`     // all reactions are
	Quitting   bool   `json:"quitting"`   // everything is being stopped
	Ended      bool   `json:"ended"`      // and has been
	Background bool   `json:"background"` // it keeps running when its last face closes
	Trouble    bool   `json:"trouble"`    // the verdict turned broken or stale for good, and has not been current since
	Lines      int64  `json:"lines"`      // how many the log has
	LogProblem string `json:"log_problem,omitempty"`
	// Broken is how many ripples have ended broken, and Longest the one of a save that took longest to come to
	// rest: of all, also of those that are not kept any more.
	Broken  int     `json:"broken"`
	Longest Longest `json:"longest,omitzero"`
	// Settings is what is wrong with the newest edit of the settings, with its place; those
	// before are in use. Empty when nothing is wrong.
	Settings string `json:"settings,omitempty"`
}

// Longest is the ripple of a save that took longest to come to rest.
type Longest struct {
	ID      int     `json:"id"`
	Title   string  `json:"title"`
	Outcome Outcome `json:"outcome"`
	Took    Seconds `json:"took"`
}

// About is what stays the same of a project while it runs, except its settings.
type About struct {
	Name       string              `json:"name"`
	File       string              `json:"file"`    // the settings file
	Root       string              `json:"root"`    // its folder
	Session    string              `json:"session"` // tells this session from all others of the project
	Since      time.Time           `json:"since"`
	Logs       string              `json:"logs"`       // the folder of its log
	Supervisor int                 `json:"supervisor"` // number of the process that runs it
	Watchdog   int                 `json:"warden"`     // and of the one that guards that
	Groups     map[string][]string `json:"groups,omitempty"`
}

// Face is one of those that show or control the project.
type Face struct {
	Kind string `json:"kind"` // screen, plain, or what else it calls itself
	PID  int    `json:"pid,omitempty"`
	// UsedAt is when the user has last used it, as far as it says so.
	UsedAt time.Time `json:"used_at,omitzero"`
}

// Verdict is the project's state in one line.
type Verdict struct {
	Word VerdictWord `json:"word"`
	Text string      `json:"text"` // what stands behind the word
}

// Doubt is a reason why a unit may not be current although all that is known says that it is.
type Doubt struct {
	Unit  string    `json:"unit"`
	Kind  string    `json:"kind"` // older-file, saved-during-run, not-watched, changed-output
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
	VerdictStopped  VerdictWord = "stopped" // nothing is wanted
)

// State is what a unit is doing.
type State string

const (
	Idle     State = "idle"    // never asked to run
	Waiting  State = "waiting" // wants to run, on a need
	Setup    State = "setup"
	Starting State = "starting" // a service on its way to ready
	Ready    State = "ready"
	Running  State = "running" // a task or suite at work
	Stopping State = "stopping"
	Done     State = "done"    // a task or suite that ended well
	Failed   State = "failed"  // one that did not, or a service that was not ready in time
	Crashed  State = "crashed" // a service that ended by itself
	Stopped  State = "stopped" // by request
)

// Broken reports whether a unit in this state needs the user's eye.
func (s State) Broken() bool { return s == Failed || s == Crashed }

// Freshness says whether a unit runs the newest code that concerns it.
type Freshness string

const (
	NoCode   Freshness = "none" // it is stopped and not wanted, or it is broken
	Current  Freshness = "current"
	Updating Freshness = "updating"
	Stale    Freshness = "stale"
)

// Save is a save as a point on the time axis.
type Save struct {
	At     time.Time `json:"at"`
	Ripple int       `json:"ripple"`
}

// Unit is one unit.
type Unit struct {
	Name      string    `json:"name"`
	Kind      string    `json:"kind"` // service, task, suite, relay
	Command   string    `json:"command"`
	Dir       string    `json:"dir"`                  // in which it runs
	AsWritten bool      `json:"as_written,omitempty"` // lines of JSON and logfmt are shown as they are
	Needs     []string  `json:"needs,omitempty"`
	Follows   []string  `json:"follows,omitempty"`
	State     State     `json:"state"`
	Freshness Freshness `json:"freshness"`
	Why       string    `json:"why,omitempty"` // of stale and waiting units: what prevents them from becoming current
	Wanted    bool      `json:"wanted"`
	Paused    bool      `json:"paused,omitempty"`
	Words     []string  `json:"words,omitempty"`    // that a user has added to its command
	Narrowed  string    `json:"narrowed,omitempty"` // to which tests a user has narrowed it
	Report    Report    `json:"report,omitzero"`    // what is known of its tests and findings
	Moving    bool      `json:"moving,omitempty"`   // it will be at rest only later
	Queued    bool      `json:"queued,omitempty"`   // one more run follows the one at work
	InLine    bool      `json:"in_line,omitempty"`  // it waits for a job
	Alone     bool      `json:"alone,omitempty"`    // nothing else runs at the same time
	RetryAt   time.Time `json:"retry_at,omitzero"`  // when a crashed service is started again
	Run       Run       `json:"run,omitzero"`       // the newest; number 0 before the first
	Pass      Pass      `json:"pass,omitzero"`      // the newest of that run
	Suspects  []string  `json:"suspects,omitempty"` // files that changed since it last ran well
	Owed      []string  `json:"owed,omitempty"`     // commands that a failed run has left undone
	Loop      *Loop     `json:"loop,omitempty"`     // that it was in, whose files are ignored
	Marks     []Mark    `json:"marks,omitempty"`    // its life, oldest first
}

// Mark is a point in a unit's life: from At on it was in this state.
type Mark struct {
	At    time.Time `json:"at"`
	State State     `json:"state"`
	Stale bool      `json:"stale,omitempty"`
	Run   int       `json:"run,omitempty"`
}

// Run is one execution of a unit. Times that have not come are missing.
type Run struct {
	Number    int       `json:"number"`
	Because   string    `json:"because,omitempty"`
	Command   string    `json:"command,omitempty"` // where that is not the unit's own
	Ripples   []int     `json:"ripples,omitempty"` // that it belongs to, newest last
	PID       int       `json:"pid,omitempty"`
	OrderedAt time.Time `json:"ordered_at,omitzero"`
	ReadyAt   time.Time `json:"ready_at,omitzero"`
	EndedAt   time.Time `json:"ended_at,omitzero"`
	Exit      *Exit     `json:"exit,omitempty"` // once its process has ended
	ReusedAt  time.Time `json:"reused_at,omitzero"`
	Problem   string    `json:"problem,omitempty"`
	Spans     []Span    `json:"spans,omitempty"`
}

// Exit is how a process ended.
type Exit struct {
	Code   int    `json:"code"` // meaningful where Signal is empty
	Signal string `json:"signal,omitempty"`
	Text   string `json:"text"` // "exit 3", "segmentation fault (SIGSEGV)"
}

// Pass is one round of work of a service that picks up changes by itself.
type Pass struct {
	Number  int       `json:"number"`
	BeganAt time.Time `json:"began_at,omitzero"`
	EndedAt time.Time `json:"ended_at,omitzero"`
	Good    bool      `json:"good,omitempty"`
	Saw     string    `json:"saw,omitempty"` // of one that ended badly: what it said first
}

// Span is a part of a run's life, or of the time before it.
type Span struct {
	Phase string    `json:"phase"` // debounce, queued, waiting, stopping, setup, starting, running
	From  time.Time `json:"from"`
	To    time.Time `json:"to,omitzero"`
	Step  string    `json:"step,omitempty"` // what was run, in setup
	On    string    `json:"on,omitempty"`   // the unit it waited for, in waiting
}

// Loop is what set a unit off again and again, and is ignored since.
type Loop struct {
	Files []string   `json:"files"`
	Round []LoopLink `json:"round"` // how it went round, from the unit back to it
	Noted bool       `json:"noted"` // the user has agreed to it
	Text  string     `json:"text"`  // how it goes round, in words
	Cure  string     `json:"cure"`  // the line in the settings that ends it for good
}

// Alone reports whether the unit sets itself off.
func (l *Loop) Alone() bool { return len(l.Round) == 1 && l.Round[0].By == l.Round[0].Unit }

// LoopLink is a unit that another has set off.
type LoopLink struct {
	By    string   `json:"by"`
	Unit  string   `json:"unit"`
	Files []string `json:"files,omitempty"` // what By wrote; empty where Unit follows By
	Does  string   `json:"does"`
}

// Ripple is a cause and every run that it brought about, until all are at rest.
type Ripple struct {
	ID        int       `json:"id"`
	Cause     Cause     `json:"cause"`
	Since     time.Time `json:"since"` // the first file event, or when the cause came
	OpenedAt  time.Time `json:"opened_at"`
	RestAt    time.Time `json:"rest_at,omitzero"`
	Paths     []string  `json:"paths,omitempty"` // the first hundred
	Files     int       `json:"files,omitempty"` // how many there are in all
	Concerned []Concern `json:"concerned,omitempty"`
	Runs      []*RunRef `json:"runs,omitempty"`
	MoreRuns  int       `json:"more_runs,omitempty"` // how many came after those
	TookOver  []int     `json:"took_over,omitempty"` // earlier ripples whose work a run of this one did as well
	TakenBy   []int     `json:"taken_by,omitempty"`  // later ones that did work of this one
	Outcome   Outcome   `json:"outcome"`
	Detail    string    `json:"detail,omitempty"` // why the outcome is not current
	Title     string    `json:"title"`            // what opened it, in a few words
}

// Resting reports whether all that the ripple caused has come to an end.
func (r *Ripple) Resting() bool { return r.Outcome != Open }

// Cause is what opened a ripple: start, change, request, crash, settings, release or pass.
type Cause struct {
	Kind string `json:"kind"`
	Unit string `json:"unit,omitempty"`
	Text string `json:"text,omitempty"`
}

// Outcome is how things stood when a ripple came to rest.
type Outcome string

const (
	Open         Outcome = "open" // it has not
	EndedCurrent Outcome = "current"
	EndedStale   Outcome = "stale"
	EndedBroken  Outcome = "broken"
)

// Concern is a unit that a change concerns, and the pattern that says so.
type Concern struct {
	Unit string `json:"unit"`
	Rule string `json:"rule"`
}

// RunRef names a run, or a pass of one, with how long it took once it is ready or over.
type RunRef struct {
	Unit   string `json:"unit"`
	Number int    `json:"number"`
	Pass   int    `json:"pass,omitempty"`
	// Because is why the run was ordered; empty for a pass, which a tool begins by itself.
	Because string  `json:"because,omitempty"`
	Took    Seconds `json:"took,omitempty"`
	Failed  bool    `json:"failed,omitempty"` // it did not end well, or was not ready in time
	Spans   []Span  `json:"spans,omitempty"`
}

// Jobs is who has those that there are.
type Jobs struct {
	Most  int      `json:"most,omitempty"` // how many there are; 0 is no limit
	Taken int      `json:"taken"`
	Text  string   `json:"text,omitempty"`  // what those in line wait for
	Alone string   `json:"alone,omitempty"` // and those who are to run alone
	By    []string `json:"by,omitempty"`    // who has them, the first few
}

// Use is what a unit takes of the machine, and where it can be reached.
type Use struct {
	CPU       float64          `json:"cpu"`    // of one core; 1 is all of it
	Memory    int64            `json:"memory"` // resident bytes, of all its processes
	Addresses []netip.AddrPort `json:"addresses,omitempty"`
	// Of a relay: requests a second over the last ten, how many it had to answer with an error of its
	// own, and how many pages listen to it.
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

// Ripple returns the ripple with that number, or nil.
func (s *Snapshot) Ripple(id int) *Ripple {
	for i := len(s.Ripples) - 1; i >= 0; i-- {
		if s.Ripples[i].ID == id {
			return s.Ripples[i]
		}
	}
	return nil
}

// WhyOf says what is in a unit's way, or nothing.
func (s *Snapshot) WhyOf(u *Unit) string {
	switch {
	case !u.InLine:
		return u.Why
	case u.Alone:
		return s.Jobs.Alone
	}
	return s.Jobs.Text
}

// LastSave returns when files were saved last, as seen at that moment; zero before the
// first time.
func (s *Snapshot) LastSave(at time.Time) time.Time {
	for i := len(s.Saves) - 1; i >= 0; i-- {
		if !s.Saves[i].At.After(at) {
			return s.Saves[i].At
		}
	}
	return time.Time{}
}
