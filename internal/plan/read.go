package plan

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/text/suggest"
)

// Read reads and validates the settings file at path. Where the file itself is
// wrong the error is a Problems that names everything wrong with it.
func Read(path string) (*Plan, error) { return ReadFor(path, "") }

// ReadFor is Read for the settings of a folder that are kept elsewhere; empty: in it.
func ReadFor(path, root string) (*Plan, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, fmt.Errorf("find %s: %w", path, err)
	}
	data, err := files.Read(abs, files.Sane)
	if err != nil {
		return nil, fmt.Errorf("read the settings %s: %w", path, files.Reason(err))
	}
	return parsePlan(path, abs, root, data)
}

// parsePlan reads data as the settings file abs of the folder root, empty for the one that it
// is in; shown is its name in problems.
func parsePlan(shown, abs, root string, data []byte) (*Plan, error) {
	if root == "" {
		root = filepath.Dir(abs)
	}
	doc := parse(shown, data)
	if len(doc.found) > 0 {
		return nil, doc.problems()
	}
	r := &reader{
		document: doc,
		plan:     &Plan{Jobs: defaultJobs(), Logs: defaultLogs, File: abs, Root: root, Name: filepath.Base(root)},
		defaults: &table{},
		env:      variables{machine: os.LookupEnv},
		places:   map[string]*entry{},
		known:    map[string]int{},
	}
	r.readFile()
	r.plan.index = r.known
	r.checkNames()
	r.checkCircles()
	if len(doc.found) > 0 {
		return nil, doc.problems()
	}
	return r.plan, nil
}

// reader turns a document into a plan and notes every problem on the way.
type reader struct {
	*document
	plan     *Plan
	defaults *table
	env      variables
	places   map[string]*entry // where each unit's table and each of its references stands
	known    map[string]int    // positions of units, by name
	told     map[string]bool   // problems, so that what stands in [defaults] is told once
	checking bool              // reading [defaults] for themselves: no unit has variables yet
}

func (r *reader) wrong(at place, hint, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if key := fmt.Sprint(at, text); !r.told[key] {
		if r.told == nil {
			r.told = map[string]bool{}
		}
		r.told[key] = true
		r.problem(at, text, hint)
	}
}

// unknown tells of a key that is not in known.
func (r *reader) unknown(e *entry, where string, known []string) {
	if now, old := renamedKeys[e.key]; old && slices.Contains(known, now) {
		r.wrong(e.keyAt, fmt.Sprintf("write %q", now), "%q is called %q now", e.key, now)
		return
	}
	hint := "known here: " + strings.Join(known, ", ")
	if near := suggest.Name(e.key, known); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	r.wrong(e.keyAt, hint, "unknown key %q in %s", e.key, where)
}

// renamedKeys are keys of earlier versions, and what they are called now.
var renamedKeys = map[string]string{"lull": "debounce"}

var unitNames = regexp.MustCompile(`^[A-Za-z0-9][A-Za-z0-9_.-]*$`)

func (r *reader) readFile() {
	// [project] and [defaults] come first, wherever they stand: units build on them.
	if e := r.root.get("project"); e != nil {
		r.readProject(e.value)
	}
	if e := r.root.get("defaults"); e != nil && r.want(e.value, tablesKind, "[defaults]") {
		r.defaults = e.value.table
		r.readDefaults()
	}
	for _, e := range r.root.entries {
		switch e.key {
		case "project", "defaults":
		case "service":
			r.readUnits(e, Service)
		case "task":
			r.readUnits(e, Task)
		case "suite":
			r.readUnits(e, Suite)
		case "relay":
			r.readUnits(e, PageServer)
		case "group":
			r.eachTable(e, r.readGroup)
		default:
			r.unknown(e, "the file", []string{"project", "defaults", "service", "task", "suite", "relay", "group"})
		}
	}
	r.inFileOrder()
	if len(r.plan.Units) == 0 && len(r.found) == 0 {
		r.wrong(
			place{line: 1, column: 1, width: 1},
			`add one, such as [service.web] with run = "..."`,
			"the file names no unit",
		)
	}
}

// inFileOrder puts the units into the order of the file, across kinds.
func (r *reader) inFileOrder() {
	slices.SortStableFunc(r.plan.Units, func(a, b *Unit) int { return a.Line - b.Line })
	for i, u := range r.plan.Units {
		r.known[u.Name] = i
	}
}

func (r *reader) readProject(v *value) {
	if !r.want(v, tablesKind, "[project]") {
		return
	}
	for _, e := range v.table.entries {
		switch e.key {
		case "name":
			if r.want(e.value, textKind, e.key) {
				r.plan.Name = e.value.text
			}
		case "env_files":
			r.plan.EnvFiles, r.env.project = r.readEnvFiles(e)
		case "secret":
			r.plan.Secret = r.words(e.value, e.key)
			for i, p := range r.plan.Secret {
				if _, err := path.Match(p, ""); err != nil {
					r.wrong(e.value.items[i].at, `such as "*_TOKEN"`, "%q is not a pattern of names", p)
				}
			}
		case "jobs":
			r.plan.Jobs = r.jobs(e)
		case "logs":
			r.readLogs(e)
		case "on_verdict":
			c := r.plainCommand(e)
			r.plan.OnVerdict = &c
		default:
			r.unknown(e, "[project]", []string{"name", "env_files", "secret", "jobs", "logs", "on_verdict"})
		}
	}
}

// jobs reads how many tasks, suites and setup steps may run at once.
func (r *reader) jobs(e *entry) int {
	if !r.want(e.value, numberKind, e.key) {
		return 0
	}
	n, err := strconv.Atoi(strings.ReplaceAll(e.value.text, "_", ""))
	if err != nil || n < 1 {
		r.wrong(e.value.at, "it is at least 1", "%s is not a number of jobs", e.value.text)
	}
	return n
}

// defaultJobs is how many run at once where the file does not say.
func defaultJobs() int { return max(2, runtime.NumCPU()) }

// eachTable calls read for every named table below e, such as [group.NAME].
func (r *reader) eachTable(e *entry, read func(*entry)) {
	if !r.want(e.value, tablesKind, e.key) {
		return
	}
	for _, sub := range e.value.table.entries {
		if r.want(sub.value, tablesKind, e.key+"."+sub.key) {
			read(sub)
		}
	}
}

func (r *reader) readGroup(e *entry) {
	g := Group{Name: e.key}
	for _, member := range e.value.table.entries {
		if member.key != "units" {
			r.unknown(member, "[group."+e.key+"]", []string{"units"})
			continue
		}
		g.Units = r.words(member.value, "units")
		r.places["group "+e.key] = member
	}
	if r.places["group "+e.key] == nil {
		r.places["group "+e.key] = e
	}
	r.plan.Groups = append(r.plan.Groups, g)
}

func (r *reader) readDefaults() {
	scratch := r.newUnit("", Service)
	r.checking, r.env.unit = true, scratch
	defer func() { r.checking = false }()
	for _, e := range r.defaults.entries {
		if key, ok := unitKeys[e.key]; ok {
			key.read(r, scratch, e)
		} else {
			r.unknown(e, "[defaults]", unitKeyNames(0, true))
		}
	}
}

func (r *reader) readUnits(e *entry, kind Kind) {
	r.eachTable(e, func(e *entry) { r.readUnit(e, kind) })
}

func (r *reader) newUnit(name string, kind Kind) *Unit {
	return &Unit{
		Name: name, Kind: kind, Dir: r.plan.Root,
		Debounce: DefaultDebounce, Stop: Stop{Signal: "TERM", Grace: DefaultGrace},
	}
}

func (r *reader) readUnit(e *entry, kind Kind) {
	header := fmt.Sprintf("[%s.%s]", kind, e.key)
	if !unitNames.MatchString(e.key) {
		r.wrong(e.keyAt, "letters, digits, '-', '_' and '.' make a name", "%q cannot name a unit", e.key)
	}
	if e.key == "omnivigil" {
		r.wrong(e.keyAt, "choose another name", "the name %q stands for Omnivigil itself", e.key)
	}
	if before := r.places[e.key]; before != nil {
		r.wrong(
			e.keyAt,
			"give one of them another name",
			"a unit %q is already defined on line %d",
			e.key,
			before.keyAt.line,
		)
	}
	u := r.newUnit(e.key, kind)
	if kind == Suite {
		u.Results.Form = ResultsAuto
	}
	r.env.unit, r.env.own = u, nil
	u.Line = e.keyAt.line
	r.places[e.key] = e

	// What sets variables comes first: other keys may use them.
	for _, early := range []bool{true, false} {
		for _, d := range r.defaults.entries {
			if key, ok := unitKeys[d.key]; ok && key.fits(kind) && key.early == early {
				key.read(r, u, d)
			}
		}
		for _, k := range e.value.table.entries {
			key, ok := unitKeys[k.key]
			switch {
			case ok && key.early != early, !ok && early:
			case !ok:
				r.unknown(k, header, unitKeyNames(kind, false))
			case !key.fits(kind):
				r.wrong(k.keyAt, key.misfit, "%s takes no %q", article(kind), k.key)
			default:
				key.read(r, u, k)
			}
		}
	}
	if kind == PageServer {
		r.finishRelay(u, e)
	} else if e.value.table.get("run") == nil && r.defaults.get("run") == nil {
		r.wrong(e.keyAt, `say what it runs: run = "..."`, "%s has no \"run\"", header)
	}
	finishReady(u)
	u.ComparesTimes = u.Relay == nil && u.Run.ComparesTimes()
	if u.ComparesTimes && kind.Ends() && e.value.table.get("overlap") == nil && r.defaults.get("overlap") == nil {
		u.Overlap = Abandon // what it made meanwhile would hide the change from its next run
	}
	if serve := e.value.table.get("may_serve"); serve != nil && u.MayServe && u.Manual {
		r.wrong(
			serve.keyAt,
			`a task that only starts when asked does not react to changes: say [service.NAME] or leave "may_serve" out`,
			"\"may_serve\" and start = \"manual\" exclude each other",
		)
	}
	if u.Reuse = u.Reuse &&
		(e.value.table.get("outputs") != nil || r.defaults.get("outputs") != nil); !u.Reuse &&
		asksForReuse(e) {
		r.wrong(
			e.value.table.get("reuse").keyAt,
			`say what it makes, such as outputs = ["build/**"]; outputs = [] for a task that makes no file`,
			"\"reuse\" needs \"outputs\"",
		)
	}
	u.Env = append(r.env.fileVariables(), u.Env...)
	r.known[u.Name] = len(r.plan.Units)
	r.plan.Units = append(r.plan.Units, u)
}

func asksForReuse(e *entry) bool {
	reuse := e.value.table.get("reuse")
	return reuse != nil && reuse.value.text == "true"
}

// finishReady fills in what the file leaves open about a service's readiness.
func finishReady(u *Unit) {
	switch {
	case u.Kind != Service:
	case u.Pass != nil && u.Ready.Within == 0: // ready after its first good pass
		u.Ready.Within = DefaultWithin
	case u.Pass != nil:
	case !u.Ready.Probed() && u.Ready.After == 0:
		u.Ready.After = DefaultLife
	case u.Ready.Probed() && u.Ready.Within == 0:
		u.Ready.Within = DefaultWithin
	}
}

func article(k Kind) string { return "a " + k.String() }
