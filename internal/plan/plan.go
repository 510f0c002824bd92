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

// FileName is the name of the settings file. A directory with such a file is a project.
const FileName = "omnivigil.toml"

// Kind is the kind of a unit.
type Kind uint8

const (
	Service    Kind = iota // keeps running; its end is a crash
	Task                   // runs and exits; exit status 0 is success
	Suite                  // runs and exits with test results
	PageServer             // a server of our own, with pages that refresh: [relay.NAME]
)

func (k Kind) String() string {
	return [...]string{"service", "task", "suite", "relay"}[k]
}

// Ends reports whether runs of this kind are meant to end.
func (k Kind) Ends() bool { return k == Task || k == Suite }

// Plan is a project as its settings file describes it. A Plan and everything in it are immutable after Read has
// returned it, so it may be shared.
type Plan struct {
	Name   string
	File   string // absolute path of the settings file
	Root   string // absolute path of its directory; relative paths start here
	Units  []*Unit
	Groups []Group
	// Members are directories with their own settings, whose units and groups are among the others.
	Members []Member
	// MemberPatterns are the patterns for their directories, relative to Root.
	MemberPatterns []string
	// EnvFiles are the env files of all units, as written, whether they exist or not.
	EnvFiles []string
	// MissingEnvFiles are the env files of the project and its units that do not exist.
	MissingEnvFiles []string
	// Jobs is the maximum number of tasks, suites and setup steps at once; 0: no limit.
	Jobs int
	// Logs are the limits of the logs of the project's sessions.
	Logs Limits
	// History are the limits of the history of the project: runs, tests, findings and samples across sessions.
	History Limits
	// KeepChanges: the contents of changed files are kept, to show what changed.
	KeepChanges bool
	// Share is where the results of the project's team are.
	Share Share
	// OnVerdict is run when the verdict becomes broken or stale and stays so, and when it is current again; nil:
	// nothing is.
	OnVerdict *Command
	// Secret are patterns for the names of variables whose values are masked.
	Secret []string

	InFiles []Variable     // all variables of env files, even those that the machine overrides
	index   map[string]int // the position of each unit; nil: not built
}

// Share is where the results of a team are.
type Share struct {
	URL   string // https, http or s3; empty: there is none
	Write bool   // results of this machine are sent there
}

// Elsewhere reports whether the settings are not in the directory that they are for.
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

// Member is a directory with its own settings within a project.
type Member struct {
	Name    string // its units are named MEMBER/UNIT
	Path    string // of its directory, relative to Plan.Root, with slashes
	File    string // absolute path of its settings file
	Problem string // why its last good settings are used; empty: they are the saved ones
}

// Member returns the member of that name, or nil.
func (p *Plan) Member(name string) *Member {
	for i := range p.Members {
		if p.Members[i].Name == name {
			return &p.Members[i]
		}
	}
	return nil
}

// Without returns the plan without a member, and the name of a unit that needs or follows one of its units; empty: none
// does.
func (p *Plan) Without(member string) (without *Plan, neededBy string) {
	kept := *p
	kept.Units = slices.DeleteFunc(slices.Clone(p.Units), func(u *Unit) bool { return u.Member == member })
	kept.Groups = slices.DeleteFunc(slices.Clone(p.Groups), func(g Group) bool {
		return strings.HasPrefix(g.Name, member+"/")
	})
	kept.Members = slices.DeleteFunc(slices.Clone(p.Members), func(m Member) bool { return m.Name == member })
	kept.BuildIndex()
	for i, g := range kept.Groups {
		kept.Groups[i].Units = slices.DeleteFunc(slices.Clone(g.Units), func(unit string) bool {
			return kept.Unit(unit) == nil
		})
	}
	for _, u := range kept.Units {
		if slices.ContainsFunc(u.targets(), func(name string) bool { return kept.Unit(name) == nil }) {
			return &kept, u.Name
		}
	}
	return &kept, ""
}

// targets are all units that a unit names.
func (u *Unit) targets() []string {
	all := u.Upstream()
	if u.Relay != nil {
		all = append(all, u.Relay.Needs...)
		for _, at := range append(u.Relay.At, RelayPath{To: u.Relay.To}) {
			if at.To != "" {
				all = append(all, at.To)
			}
		}
	}
	return all
}

// MemberProblems tells what is wrong with the settings of members.
func (p *Plan) MemberProblems() (problems []string) {
	for _, m := range p.Members {
		if m.Problem != "" {
			problems = append(problems, m.Problem)
		}
	}
	return problems
}

// Group is a name for several units.
type Group struct {
	Name  string
	Units []string
}

// Unit is anything that is supervised.
type Unit struct {
	Name     string
	Member   string // whose settings it is in; empty: the project's own
	File     string // absolute path of these settings
	Kind     Kind
	Run      Command
	Dir      string     // absolute
	Env      []Variable // in addition to the system's; the last of several with one name counts
	EnvFiles []string   // its own, as written; they come before those of the project
	OwnEnv   []Variable // the unit's own, as written, without variables of files and without expansion
	// Uses are patterns of the names of variables that it receives from env files, in addition to those that its
	// commands name; nil: it receives all.
	Uses      []string
	Needs     []string
	Follows   []string
	Watch     []Pattern
	Ignore    []Pattern
	Reactions []Reaction
	Debounce  time.Duration
	// Unstructured shows JSON and logfmt lines raw.
	Unstructured bool
	// Unignored includes files that version control ignores; SkipUnchanged excludes those with the same contents as
	// before. Poll, if not 0, is how often files are polled, instead of waiting for events.
	Unignored     bool
	SkipUnchanged bool
	Poll          time.Duration
	Ready         Ready
	Pass          *Pass // of a service that picks up changes by itself; nil: a change restarts it
	Stop          Stop
	Endpoint      Endpoint
	Setup         []Step // expensive steps before the first run, skipped while they are done
	Prelude       []Step // quick steps before every run
	Overlap       Overlap
	Limit         time.Duration // how long a run of a task or suite may take before it is ended; 0: any time
	Health        time.Duration // the interval at which Ready is checked again while the service runs; 0: not at all
	AfterExit     AfterExit
	Manual        bool      // starts only on request
	Outputs       []Pattern // what a task or suite makes; never its own input
	Reuse         bool      // a good result is valid while everything that it depends on is the same
	// KeepOutputs is how large the outputs of a run may be, in bytes, to be kept; 0: they are not kept.
	KeepOutputs int64
	Observe     bool // what it reads is compared with its rules while it runs
	Alone       bool // no other task, suite or setup step runs at the same time
	// ComparesTimes: its program compares file times to decide what to do.
	ComparesTimes bool
	MayServe      bool     // of a task: a run that listens, or lasts longer than ServesAfter, counts as a service's
	Results       Results  // how the results of its tests are read
	Findings      Findings // how findings are read
	FindingsFail  FindingsFail
	Narrow        *Narrow // how selected cases are added to its command; nil: as its runner is known to accept them
	Widen         bool    // when a run narrowed by a user passes, everything runs once
	Relay         *Relay  // what a PageServer serves; otherwise nil
	Line          int     // of its table in File, from 1
}

// ShortName is the unit's name in the settings that it is in.
func (u *Unit) ShortName() string {
	if u.Member == "" {
		return u.Name
	}
	return strings.TrimPrefix(u.Name, u.Member+"/")
}

// Results is the form of a unit's test results.
type Results struct {
	Form  ResultsForm
	JUnit string // with ResultsJUnit: a pattern of files, relative to Plan.Root
}

// ResultsForm is a form of test results.
type ResultsForm uint8

const (
	ResultsExit    ResultsForm = iota // only the exit status
	ResultsAuto                       // any of the forms below, recognized in the output
	ResultsGoJSON                     // go test -json
	ResultsTAP                        // the Test Anything Protocol
	ResultsLibtest                    // the test harness of Rust
	ResultsJUnit                      // JUnit XML in files
)

// Findings is the form in which a unit reports locations in files. The zero value recognizes the known forms.
type Findings struct {
	Off     bool
	SARIF   string // a pattern for SARIF files, relative to Plan.Root
	Pattern string // an expression in the syntax of package regexp, with named groups
}

// FindingsFail is which findings make a run fail that exited with status 0.
type FindingsFail uint8

const (
	FailOnError FindingsFail = iota
	FailOnWarning
	FailNever
)

// Narrow is how a unit's command is narrowed to some of its cases.
type Narrow struct {
	Add   string // arguments to add; {} is replaced by the cases
	Join  string // the separator of several cases; "|": they are quoted as expressions; empty: the arguments are repeated for each
	First string // arguments to add to a full run while cases fail; {} is replaced by these
}

// Pattern is a glob, relative to Plan.Root, with its location in the file.
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

// Verb is what a unit of this kind does again: services restart, tasks and suites rerun.
func (u *Unit) Verb() string {
	if u.Kind.Ends() {
		return Reruns
	}
	return Restarts
}

// Command is what a unit runs: either one line for the shell, or words that are executed directly.
type Command struct {
	Shell string
	Words []string
	// Args are passed to the shell as its $1 and so on, so that nothing in them is read as code.
	Args []string
	// Written are the Words before variables were expanded; nil: they are the same. People see Written, because a
	// value may be secret.
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

// AsWritten is Argv before variables were expanded.
func (c Command) AsWritten() []string {
	if c.Written != nil {
		return c.Written
	}
	return c.Argv()
}

// Program returns the name of the program that the command runs first, as written: in a shell line, the first word
// that sets no variable.
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

// makes are programs that compare file times to decide what to make.
var makes = []string{"make", "gmake", "bmake", "pmake", "ninja", "samu"}

// ComparesTimes reports whether the command's program compares file times, so that it does not notice a file that is
// older than what was made from it.
func (c Command) ComparesTimes() bool {
	return slices.Contains(makes, strings.TrimSuffix(filepath.Base(c.Program()), ".exe"))
}

// shellArgs returns what follows the line: the shell's $0, and the arguments.
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

// Ready is when a service counts as ready. At most one of Port, HTTP, Line, File and Run is set; without any, the
// service is ready when it has been running for After.
type Ready struct {
	Port int
	HTTP string
	Line string   // a regular expression in the syntax of package regexp
	File string   // absolute; the file exists and is newer than the start
	Run  *Command // it exits with status 0
	// Insecure accepts any certificate of an https address in HTTP.
	Insecure bool
	After    time.Duration
	Within   time.Duration // the timeout, after which the unit has failed; 0: nothing is probed
}

// Probed reports whether readiness has to be probed from outside.
func (r Ready) Probed() bool {
	return r.Port != 0 || r.HTTP != "" || r.Line != "" || r.File != "" || r.Run != nil
}

// String describes what is waited for.
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

// Pass is how the output of a service that picks up changes by itself shows its passes: a compiler in its own watch
// mode, a bundler. The expressions have the syntax of package regexp.
type Pass struct {
	Auto    bool          // the phrases of the common tools, instead of the expressions
	Working string        // matches the beginning of a pass; empty: there is no such line
	Good    string        // matches the end of a good pass
	Bad     string        // matches the end of a bad pass; empty: there is no such line
	Within  time.Duration // the time within which a change is picked up, or never
}

// Stop is how a run is ended.
type Stop struct {
	Signal string        // without SIG, in capitals
	Run    *Command      // a command instead of the signal; nil: the signal
	Type   string        // text to type into its terminal, instead of both; empty: none
	Grace  time.Duration // the grace period before SIGKILL
}

// Endpoint is an address that the unit is known to listen on.
type Endpoint struct {
	Port   int // 0: unknown
	Label  string
	WhenUp string // "tell", "browse" or "quiet"
}

// Ports returns the addresses of this machine that the unit is known to need. If the settings name only a port, the
// address is the loopback address.
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

// Step is a command before a unit's run.
type Step struct {
	Run    Command
	Dir    string    // absolute; empty: the unit's directory
	Inputs []Pattern // of setup: it is done while these files are the same
	// Outputs are what a setup step makes: it is not done while one of the patterns matches nothing.
	Outputs []Pattern
}

// In returns the directory in which a unit's step runs.
func (s Step) In(u *Unit) string {
	if s.Dir != "" {
		return s.Dir
	}
	return u.Dir
}

// Overlap is what a change does to a running task or suite.
type Overlap uint8

const (
	Finish  Overlap = iota // let it finish, then run again
	Abandon                // stop it and start again
)

// AfterExit is what follows when a service exits without a request.
type AfterExit uint8

const (
	Wait  AfterExit = iota // wait for the next change or request
	Retry                  // start again, with increasing delays
)

// Reaction is a finer rule than Watch: the first one whose pattern matches a path decides what that path does to the
// unit. In the pattern {name} captures one path element and {name...} any number; in Run they are replaced by what
// they captured.
type Reaction struct {
	When   Pattern
	Do     Action
	Run    *Command // with Act: runs instead of Unit.Run; nil: Unit.Run
	Signal string   // without SIG, with SendSignal
}

// Action is what a reaction does to its unit.
type Action uint8

const (
	Act         Action = iota // restart or rerun, by the unit's kind
	SendSignal                // send a signal; the unit reloads its files by itself
	Nothing                   // ignore the path
	RefreshPage               // only reload the pages of its relays
	SwapStyle                 // only swap the file in these pages
)

// Pages reports whether the action is only for pages.
func (a Action) Pages() bool { return a == RefreshPage || a == SwapStyle }

// Limits are the limits of what is kept of all sessions of a project, together.
type Limits struct {
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

// Defaults of a unit.
const (
	DefaultDebounce = 150 * time.Millisecond
	DefaultGrace    = 5 * time.Second
	DefaultLife     = 500 * time.Millisecond // of a service without ready
	DefaultWithin   = 30 * time.Second
	DefaultTakeUp   = 5 * time.Second  // of a service that picks up changes by itself
	ServesAfter     = 10 * time.Second // after this, a task that may serve is a service
)
