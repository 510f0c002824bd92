// Package plan holds what is supervised: units, their commands, needs, rules and reactions, as one immutable
// description, and compares two of them (Compare). It is all that the engine knows of the settings.
//
// It reads no files: package settings makes a Plan from an omnivigil.toml. Start reading at Plan and Unit.
package plan

import (
	"maps"
	"net/netip"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/plan/capture"
	"omnivigil/internal/text/format"
)

// FileName is the name of the settings file that makes a folder a project.
const FileName = "omnivigil.toml"

// Kind says what a unit's end means.
type Kind uint8

const (
	Service    Kind = iota // should keep running; its end is a crash
	Task                   // runs and ends; exit code 0 is success
	Suite                  // runs and ends with test results
	PageServer             // a server of our own, whose pages refresh by themselves: [relay.NAME]
)

func (k Kind) String() string {
	return [...]string{"service", "task", "suite", "relay"}[k]
}

// Ends reports whether a run of this kind is meant to come to an end.
func (k Kind) Ends() bool { return k == Task || k == Suite }

// Plan is a project as its settings file describes it. A Plan and all it holds
// are never changed after Read has returned it, so it may be shared freely.
type Plan struct {
	Name   string
	File   string // absolute path of the settings file
	Root   string // absolute path of its folder; every relative path starts here
	Units  []*Unit
	Groups []Group
	// EnvFiles are the files that every Unit.Env partly comes from, as written, whether
	// they are there or not.
	EnvFiles []string
	// MissingEnvFiles are those of the project and its units that are not there.
	MissingEnvFiles []string
	// Jobs is how many tasks, suites and setup steps may run at once; 0: any number.
	Jobs int
	// Logs are what the logs of the project's sessions may take.
	Logs Logs
	// OnVerdict is run when the verdict turns broken or stale for good, and when it is current
	// again; nil: nothing is.
	OnVerdict *Command
	// Secret are patterns of names of variables whose values must not be shown.
	Secret []string

	InFiles []Variable     // all that env files say, also what the machine overrides
	index   map[string]int // positions of Units by name; nil: not built
}

// Elsewhere reports whether the settings are not kept in the folder that they are for.
func (p *Plan) Elsewhere() bool { return filepath.Dir(p.File) != p.Root }

// Unit returns the unit of that name, or nil.
func (p *Plan) Unit(name string) *Unit {
	if p.index != nil {
		if i, ok := p.index[name]; ok {
			return p.Units[i]
		}
		return nil
	}
	for _, u := range p.Units {
		if u.Name == name {
			return u
		}
	}
	return nil
}

// BuildIndex lets Unit find units by name without a search. It must be called again when Units has changed.
func (p *Plan) BuildIndex() {
	p.index = make(map[string]int, len(p.Units))
	for i, u := range p.Units {
		p.index[u.Name] = i
	}
}

// Group is a name for several units.
type Group struct {
	Name  string
	Units []string
}

// Unit is anything supervised.
type Unit struct {
	Name      string
	Kind      Kind
	Run       Command
	Dir       string     // absolute
	Env       []Variable // in addition to the system's own; where a name stands twice, the later wins
	EnvFiles  []string   // its own, as written, which come before those of the project
	OwnEnv    []Variable // the unit's own, as written, without what env files and references give
	Needs     []string
	Follows   []string
	Watch     []Pattern
	Ignore    []Pattern
	Reactions []Reaction
	Debounce  time.Duration
	// Unstructured has lines that are JSON or logfmt shown as they are.
	Unstructured bool
	// Unignored has files count that version control ignores; SkipUnchanged keeps
	// those from counting that hold what they held before. Poll, if not 0, is how
	// often files are looked at, instead of waiting for events.
	Unignored     bool
	SkipUnchanged bool
	Poll          time.Duration
	Ready         Ready
	Pass          *Pass // of a service that picks up changes by itself; nil: a change restarts it
	Stop          Stop
	Endpoint      Endpoint
	Setup         []Step // heavy steps before the first run, skipped while they are done
	Prelude       []Step // quick steps before every run
	Overlap       Overlap
	AfterExit     AfterExit
	Manual        bool      // starts by request only
	Outputs       []Pattern // what a task or suite makes; never counts as its own input
	Reuse         bool      // its last good result holds while all that it depends on is the same
	Alone         bool      // no other task, suite or setup step runs at the same time
	// ComparesTimes says that its program finds out by the times of files what it has to do.
	ComparesTimes bool
	MayServe      bool     // of a task: a run that listens, or has lived for ServesAfter, is a service's
	Results       Results  // how the results of its tests are read
	Findings      Findings // how findings are read
	FindingsFail  FindingsFail
	Narrow        *Narrow // how chosen cases are added to its command; nil: as its runner is known to take them
	Widen         bool    // all of it runs again once a run narrowed by a user is green
	Relay         *Relay  // of a PageServer what it serves; else nil
	Line          int     // of its table in the file, from 1
}

// Results is the form in which a unit tells the results of its tests.
type Results struct {
	Form  ResultsForm
	JUnit string // with ResultsJUnit: a pattern of files, relative to Plan.Root
}

// ResultsForm is a form of test results.
type ResultsForm uint8

const (
	ResultsExit    ResultsForm = iota // the exit code is all there is
	ResultsAuto                       // whichever of the forms below is recognised in the output
	ResultsGoJSON                     // go test -json
	ResultsTAP                        // the Test Anything Protocol
	ResultsLibtest                    // the test harness of Rust
	ResultsJUnit                      // JUnit XML in files
)

// Findings is the form in which a unit reports places in files. The zero value recognizes the
// known ones.
type Findings struct {
	Off     bool
	SARIF   string // a pattern of files of that form, relative to Plan.Root
	Pattern string // an expression in the syntax of package regexp, with named groups
}

// FindingsFail says which findings make a run fail that ended well.
type FindingsFail uint8

const (
	FailOnError FindingsFail = iota
	FailOnWarning
	FailNever
)

// Narrow says how a unit's command is narrowed to some of its cases.
type Narrow struct {
	Add   string // words to add; {} stands for the cases
	Join  string // what stands between several; "|": they are quoted as expressions; empty: each has words of its own
	First string // words to add to a run of all that has cases that failed before; {} stands for these
}

// Pattern is a glob, relative to Plan.Root, with its place in the file.
type Pattern struct {
	Text string
	Line int
}

// What a unit does when it acts.
const (
	Starts   = "starts" // for the first time
	Restarts = "restarts"
	Reruns   = "reruns"
)

// Verb is what a unit of this kind does again: services restart, tasks and
// suites rerun.
func (u *Unit) Verb() string {
	if u.Kind.Ends() {
		return Reruns
	}
	return Restarts
}

// Command is what a unit runs: either one line for the shell, or words that
// are executed as they are.
type Command struct {
	Shell string
	Words []string
	// Args are handed to the shell as its $1 and so on, so that nothing in them is
	// read as code.
	Args []string
	// Written are the Words before variables were put in; nil where they are the same.
	// It is what people see: a value may be secret.
	Written []string
}

// Equal reports whether both execute the same.
func (c Command) Equal(other Command) bool {
	return c.Shell == other.Shell && slices.Equal(c.Words, other.Words) && slices.Equal(c.Args, other.Args)
}

// Argv returns the words to execute.
func (c Command) Argv() []string {
	if c.Words != nil {
		return c.Words
	}
	return append([]string{"/bin/sh", "-c", c.Shell}, c.shellArgs()...)
}

// Program returns the name of the program that the command runs first, as written. Of a line for the shell
// that is its first word that sets no variable.
func (c Command) Program() string {
	if len(c.Words) > 0 {
		return c.Words[0]
	}
	name := ""
	for _, word := range strings.Fields(c.Shell) {
		if name = word; !strings.Contains(word, "=") {
			break
		}
	}
	return name
}

// makes are programs that find out by the times of files what they have to make.
var makes = []string{"make", "gmake", "bmake", "pmake", "ninja", "samu"}

// ComparesTimes reports whether the command's program finds out by the times of files what it has to do,
// so that it does not notice a file that is older than what was made of it before.
func (c Command) ComparesTimes() bool {
	return slices.Contains(makes, strings.TrimSuffix(filepath.Base(c.Program()), ".exe"))
}

// shellArgs returns what follows the line: the shell's own name, which is its $0, and
// the arguments.
func (c Command) shellArgs() []string {
	if len(c.Args) == 0 {
		return nil
	}
	return append([]string{"sh"}, c.Args...)
}

// String returns the command as a user would type it.
func (c Command) String() string {
	if c.Words == nil {
		return c.shown()
	}
	words := c.Words
	if c.Written != nil {
		words = c.Written
	}
	return format.Typed(words)
}

// Variable is one environment variable of a unit.
type Variable struct {
	Name, Value string
	File        string // the env file that it comes from, as written; empty: the settings
}

// Ready says when a service counts as ready. At most one of Port, HTTP, Line, File
// and Run is set; when none is, the service is ready when it has lived for After.
type Ready struct {
	Port int
	HTTP string
	Line string   // a regular expression in the syntax of package regexp
	File string   // absolute; it exists and is newer than the start
	Run  *Command // it exits 0
	// Insecure accepts any certificate of an https address in HTTP.
	Insecure bool
	After    time.Duration
	Within   time.Duration // past it the unit has failed; 0 where nothing is probed
}

// Probed reports whether readiness has to be found out from outside.
func (r Ready) Probed() bool {
	return r.Port != 0 || r.HTTP != "" || r.Line != "" || r.File != "" || r.Run != nil
}

// String says what is waited for.
func (r Ready) String() string {
	switch {
	case r.Port != 0:
		return "port " + strconv.Itoa(r.Port)
	case r.HTTP != "":
		return r.HTTP
	case r.Line != "":
		return "a line like " + r.Line
	case r.File != "":
		return "the file " + r.File
	case r.Run != nil:
		return r.Run.String()
	}
	return r.After.String() + " of life"
}

// Pass says how the passes of a service that picks up changes by itself are reported by its
// output: a compiler in its own watch mode, a bundler. The expressions have the syntax of
// package regexp.
type Pass struct {
	Auto    bool          // by the phrases of the common tools, instead of the expressions
	Working string        // a line that says that a pass begins; empty: none does
	Good    string        // a line that says that one has ended well
	Bad     string        // a line that says that one has ended badly; empty: none does
	Within  time.Duration // in which a change is taken up, or never
}

// Stop says how a run is ended.
type Stop struct {
	Signal string        // without SIG, in capitals
	Run    *Command      // what ends the run instead of the signal; nil: the signal
	Type   string        // what is typed into its terminal to end it, instead of both; empty: nothing
	Grace  time.Duration // how long the run may take before it is killed
}

// Endpoint is an address that the unit is known to listen on.
type Endpoint struct {
	Port   int // 0 where nothing is known
	Label  string
	WhenUp string // "tell", "browse" or "quiet"
}

// Ports returns the addresses of this machine that the unit is known to want. Where
// the settings name only a port, that is one of the loopback address.
func (u *Unit) Ports() []netip.AddrPort {
	loopback := netip.AddrFrom4([4]byte{127, 0, 0, 1})
	wanted := map[netip.AddrPort]bool{}
	if u.Relay != nil {
		wanted[u.Relay.Listen] = u.Relay.Listen.Port() != 0
	}
	for _, port := range []int{u.Endpoint.Port, u.Ready.Port} {
		wanted[netip.AddrPortFrom(loopback, uint16(port))] = port != 0
	}
	if at, err := url.Parse(u.Ready.HTTP); err == nil {
		host := at.Hostname()
		if host == "localhost" {
			host = "127.0.0.1"
		}
		address, err := netip.ParseAddr(host)
		port, err2 := strconv.ParseUint(at.Port(), 10, 16)
		if err == nil && err2 == nil && (address.IsLoopback() || address.IsUnspecified()) {
			wanted[netip.AddrPortFrom(address, uint16(port))] = true
		}
	}
	maps.DeleteFunc(wanted, func(_ netip.AddrPort, is bool) bool { return !is })
	return slices.SortedFunc(maps.Keys(wanted), netip.AddrPort.Compare)
}

// Step is a command that comes before a unit's run.
type Step struct {
	Run    Command
	Inputs []Pattern // of setup: it is done while these files stay the same
	// Outputs are what a setup step makes: while a pattern of them matches nothing, it
	// is not done.
	Outputs []Pattern
}

// Overlap says what a change does to a task or suite that is running.
type Overlap uint8

const (
	Finish  Overlap = iota // let it end, then run again
	Abandon                // stop it and start again
)

// AfterExit says what follows when a service ends by itself.
type AfterExit uint8

const (
	Wait  AfterExit = iota // for the next change or request
	Retry                  // start again, with growing pauses
)

// Reaction is a rule finer than Watch: the first whose pattern matches a path
// says what that path does to the unit. In the pattern {name} takes one path
// element and {name...} any number; what they took stands for them in Run.
type Reaction struct {
	When   Pattern
	Do     Action
	Run    *Command // what runs instead of Unit.Run, with Act; nil: Unit.Run
	Signal string   // without SIG, with SendSignal
}

// Action is what a reaction does to its unit.
type Action uint8

const (
	Act         Action = iota // restart or rerun, as the unit's kind has it
	SendSignal                // send a signal; the unit reads its files again by itself
	Nothing                   // ignore the path
	RefreshPage               // reload the pages of relays that it stands behind; nothing else
	SwapStyle                 // swap the file in these pages, in place
)

// Pages reports whether the action is for pages alone, and nothing for the unit.
func (a Action) Pages() bool { return a == RefreshPage || a == SwapStyle }

// Logs are what the logs of a project's sessions may take, all together.
type Logs struct {
	Size int64 // bytes
	Age  time.Duration
}

// Captures returns the names that the pattern captures, in order.
func (p Pattern) Captures() []string {
	var names []string
	for _, m := range capture.Expression.FindAllStringSubmatch(p.Text, -1) {
		names = append(names, m[1])
	}
	return names
}

// What a unit gets where the file says nothing.
const (
	DefaultDebounce = 150 * time.Millisecond
	DefaultGrace    = 5 * time.Second
	DefaultLife     = 500 * time.Millisecond // of a service that says nothing of ready
	DefaultWithin   = 30 * time.Second
	DefaultTakeUp   = 5 * time.Second  // of a service that picks up changes by itself
	ServesAfter     = 10 * time.Second // of life, a task that may serve is a service
)
