// Package settings reads an omnivigil.toml into a plan.Plan, and a user's personal file, and checks both; it has
// their JSON Schema and writes small edits into a settings file. Every problem of a file is reported at once with its
// location, so that a file can be fixed in one go.
//
// It starts nothing and watches nothing. Start reading at Read; each key of a unit has an entry in keys.go.
package settings

import (
	"fmt"
	"os"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/suggest"
)

// Read reads and validates the settings file at path. If the file is invalid, the error is a Problems with everything
// that is wrong in it.
func Read(path string) (*plan.Plan, error) { return ReadFor(path, "") }

// ReadFor is Read for the settings of a directory that are kept elsewhere; empty: in it.
func ReadFor(path, root string) (*plan.Plan, error) {
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

// Parse parses data as the contents of a settings file. The errors are those of Read.
func Parse(file string, data []byte) (*plan.Plan, error) { return parsePlan(file, file, "", data) }

// parsePlan parses data as the settings file abs of the directory root (empty: the file's own); shown is its name in
// problems.
func parsePlan(shown, abs, root string, data []byte) (*plan.Plan, error) {
	if root == "" {
		root = filepath.Dir(abs)
	}
	doc := document.Parse(shown, data)
	if len(doc.Found) > 0 {
		return nil, doc.Problems()
	}
	r := &reader{
		Document: doc,
		plan: &plan.Plan{
			Jobs: defaultJobs(), Logs: defaultLogs, History: defaultHistory, KeepChanges: true, File: abs, Root: root,
			Name: filepath.Base(root),
		},
		defaults: &document.Table{},
		env:      variables{machine: os.LookupEnv},
		places:   map[string]*document.Entry{},
		known:    map[string]int{},
	}
	r.readFile()
	r.plan.BuildIndex()
	r.checkNames()
	r.checkCircles()
	if len(doc.Found) > 0 {
		return nil, doc.Problems()
	}
	return r.plan, nil
}

// reader turns a document into a plan and collects every problem.
type reader struct {
	*document.Document
	plan     *plan.Plan
	defaults *document.Table
	env      variables
	places   map[string]*document.Entry // the location of each unit's table and of each of its references
	known    map[string]int             // positions of units, by name
	told     map[string]bool            // reported problems, so that those of [defaults] are reported once
	checking bool                       // reading [defaults] on their own: there are no units' variables
}

func (r *reader) wrong(at document.Place, hint, format string, args ...any) {
	text := fmt.Sprintf(format, args...)
	if key := fmt.Sprint(at, text); !r.told[key] {
		if r.told == nil {
			r.told = map[string]bool{}
		}
		r.told[key] = true
		r.Problem(at, text, hint)
	}
}

// unknown reports a key that is not in known.
func (r *reader) unknown(e *document.Entry, where string, known []string) {
	if now, old := renamedKeys[e.Key]; old && slices.Contains(known, now) {
		r.wrong(e.KeyAt, fmt.Sprintf("write %q", now), "%q is called %q now", e.Key, now)
		return
	}
	hint := "known here: " + strings.Join(known, ", ")
	if near := suggest.Name(e.Key, known); near != "" {
		hint = fmt.Sprintf("did you mean %q?", near)
	}
	r.wrong(e.KeyAt, hint, "unknown key %q in %s", e.Key, where)
}

// renamedKeys are keys of earlier versions, with their new names.
var renamedKeys = map[string]string{"lull": "debounce"}

var unitNames = lazyregexp.New(`^[A-Za-z0-9][A-Za-z0-9_.-]*$`)

func (r *reader) readFile() {
	// [project] and [defaults] come first, wherever they are: units use them.
	if e := r.Root.Get("project"); e != nil {
		r.readProject(e.Value)
	}
	if e := r.Root.Get("defaults"); e != nil && r.want(e.Value, document.TablesKind, "[defaults]") {
		r.defaults = e.Value.Table
		r.readDefaults()
	}
	for _, e := range r.Root.Entries {
		switch e.Key {
		case "project", "defaults":
		case "service":
			r.readUnits(e, plan.Service)
		case "task":
			r.readUnits(e, plan.Task)
		case "suite":
			r.readUnits(e, plan.Suite)
		case "relay":
			r.readUnits(e, plan.PageServer)
		case "group":
			r.eachTable(e, r.readGroup)
		default:
			r.unknown(e, "the file", []string{"project", "defaults", "service", "task", "suite", "relay", "group"})
		}
	}
	r.inFileOrder()
	if len(r.plan.Units) == 0 && len(r.Found) == 0 {
		r.wrong(
			document.Place{Line: 1, Column: 1, Width: 1},
			`add one, such as [service.web] with run = "..."`,
			"the file names no unit",
		)
	}
}

// inFileOrder sorts the units by their order in the file, across kinds.
func (r *reader) inFileOrder() {
	slices.SortStableFunc(r.plan.Units, func(a, b *plan.Unit) int { return a.Line - b.Line })
	for i, u := range r.plan.Units {
		r.known[u.Name] = i
	}
}

// namePatterns reads patterns of names of variables.
func (r *reader) namePatterns(e *document.Entry) []string {
	patterns := r.words(e.Value, e.Key)
	for i, p := range patterns {
		if _, err := path.Match(p, ""); err != nil {
			r.wrong(e.Value.Items[i].At, `such as "*_TOKEN"`, "%q is not a pattern of names", p)
		}
	}
	return patterns
}

func (r *reader) readProject(v *document.Value) {
	if !r.want(v, document.TablesKind, "[project]") {
		return
	}
	for _, e := range v.Table.Entries {
		switch e.Key {
		case "name":
			if r.want(e.Value, document.TextKind, e.Key) {
				r.plan.Name = e.Value.Text
			}
		case "env_files":
			r.plan.EnvFiles, r.env.project = r.readEnvFiles(e)
		case "secret":
			r.plan.Secret = r.namePatterns(e)
		case "jobs":
			r.plan.Jobs = r.jobs(e)
		case "logs":
			r.readLimits(e, &r.plan.Logs)
		case "history":
			r.readLimits(e, &r.plan.History)
		case "keep_changes":
			r.plan.KeepChanges = r.flag(e)
		case "on_verdict":
			c := r.plainCommand(e)
			r.plan.OnVerdict = &c
		default:
			r.unknown(e, "[project]", []string{"name", "env_files", "secret", "jobs", "logs", "history", "keep_changes",
				"on_verdict"})
		}
	}
}

// jobs reads the maximum number of tasks, suites and setup steps at once.
func (r *reader) jobs(e *document.Entry) int {
	if !r.want(e.Value, document.NumberKind, e.Key) {
		return 0
	}
	n, err := strconv.Atoi(strings.ReplaceAll(e.Value.Text, "_", ""))
	if err != nil || n < 1 {
		r.wrong(e.Value.At, "it is at least 1", "%s is not a number of jobs", e.Value.Text)
	}
	return n
}

// defaultJobs is the default of jobs.
func defaultJobs() int { return max(2, runtime.NumCPU()) }

// eachTable calls read for every named table below e, such as [group.NAME].
func (r *reader) eachTable(e *document.Entry, read func(*document.Entry)) {
	if !r.want(e.Value, document.TablesKind, e.Key) {
		return
	}
	for _, sub := range e.Value.Table.Entries {
		if r.want(sub.Value, document.TablesKind, e.Key+"."+sub.Key) {
			read(sub)
		}
	}
}

func (r *reader) readGroup(e *document.Entry) {
	g := plan.Group{Name: e.Key}
	for _, member := range e.Value.Table.Entries {
		if member.Key != "units" {
			r.unknown(member, "[group."+e.Key+"]", []string{"units"})
			continue
		}
		g.Units = r.words(member.Value, "units")
		r.places["group "+e.Key] = member
	}
	if r.places["group "+e.Key] == nil {
		r.places["group "+e.Key] = e
	}
	r.plan.Groups = append(r.plan.Groups, g)
}

func (r *reader) readDefaults() {
	scratch := r.newUnit("", plan.Service)
	r.checking, r.env.unit = true, scratch
	defer func() { r.checking = false }()
	for _, e := range r.defaults.Entries {
		if key, ok := unitKeys[e.Key]; ok {
			key.read(r, scratch, e)
		} else {
			r.unknown(e, "[defaults]", unitKeyNames(0, true))
		}
	}
}

func (r *reader) readUnits(e *document.Entry, kind plan.Kind) {
	r.eachTable(e, func(e *document.Entry) { r.readUnit(e, kind) })
}

func (r *reader) newUnit(name string, kind plan.Kind) *plan.Unit {
	return &plan.Unit{
		Name: name, Kind: kind, Dir: r.plan.Root,
		Debounce: plan.DefaultDebounce, Stop: plan.Stop{Signal: "TERM", Grace: plan.DefaultGrace},
	}
}

func (r *reader) readUnit(e *document.Entry, kind plan.Kind) {
	header := fmt.Sprintf("[%s.%s]", kind, e.Key)
	if !unitNames.MatchString(e.Key) {
		r.wrong(e.KeyAt, "letters, digits, '-', '_' and '.' make a name", "%q cannot name a unit", e.Key)
	}
	if e.Key == "omnivigil" {
		r.wrong(e.KeyAt, "choose another name", "the name %q stands for Omnivigil itself", e.Key)
	}
	if before := r.places[e.Key]; before != nil {
		r.wrong(
			e.KeyAt,
			"give one of them another name",
			"a unit %q is already defined on line %d",
			e.Key,
			before.KeyAt.Line,
		)
	}
	u := r.newUnit(e.Key, kind)
	if kind == plan.Suite {
		u.Results.Form = plan.ResultsAuto
	}
	r.env.unit, r.env.own = u, nil
	u.Line = e.KeyAt.Line
	r.places[e.Key] = e

	// Keys that set variables come first: other keys may use them.
	for _, early := range []bool{true, false} {
		for _, d := range r.defaults.Entries {
			if key, ok := unitKeys[d.Key]; ok && key.fits(kind) && key.early == early {
				key.read(r, u, d)
			}
		}
		for _, k := range e.Value.Table.Entries {
			key, ok := unitKeys[k.Key]
			switch {
			case ok && key.early != early, !ok && early:
			case !ok:
				r.unknown(k, header, unitKeyNames(kind, false))
			case !key.fits(kind):
				r.wrong(k.KeyAt, key.misfit, "%s takes no %q", article(kind), k.Key)
			default:
				key.read(r, u, k)
			}
		}
	}
	if kind == plan.PageServer {
		r.finishRelay(u, e)
	} else if e.Value.Table.Get("run") == nil && r.defaults.Get("run") == nil {
		r.wrong(e.KeyAt, `say what it runs: run = "..."`, "%s has no \"run\"", header)
	}
	finishReady(u)
	u.ComparesTimes = u.Relay == nil && u.Run.ComparesTimes()
	if u.ComparesTimes && kind.Ends() && e.Value.Table.Get("overlap") == nil && r.defaults.Get("overlap") == nil {
		u.Overlap = plan.Abandon // what it made in the meantime would hide the change from its next run
	}
	if serve := e.Value.Table.Get("may_serve"); serve != nil && u.MayServe && u.Manual {
		r.wrong(
			serve.KeyAt,
			`a task that only starts when asked does not react to changes: say [service.NAME] or leave "may_serve" out`,
			"\"may_serve\" and start = \"manual\" exclude each other",
		)
	}
	if u.Reuse = u.Reuse &&
		(e.Value.Table.Get("outputs") != nil || r.defaults.Get("outputs") != nil); !u.Reuse &&
		asksForReuse(e) {
		r.wrong(
			e.Value.Table.Get("reuse").KeyAt,
			`say what it makes, such as outputs = ["build/**"]; outputs = [] for a task that makes no file`,
			"\"reuse\" needs \"outputs\"",
		)
	}
	if u.Reuse && u.KeepOutputs == 0 {
		u.KeepOutputs = defaultKeepOutputs
	}
	repeatable := u.Ready.Port != 0 || u.Ready.HTTP != "" || u.Ready.Run != nil
	if health := e.Value.Table.Get("health"); health != nil && !repeatable {
		r.wrong(
			health.KeyAt,
			"give it a check that can be repeated, such as ready = { port = 4102 }",
			"\"health\" needs \"ready\" with a port, http or run",
		)
	}
	u.Env = append(r.env.fileVariables(u), u.Env...)
	r.known[u.Name] = len(r.plan.Units)
	r.plan.Units = append(r.plan.Units, u)
}

func asksForReuse(e *document.Entry) bool {
	reuse := e.Value.Table.Get("reuse")
	return reuse != nil && reuse.Value.Text == "true"
}

// finishReady sets the defaults of a service's readiness.
func finishReady(u *plan.Unit) {
	switch {
	case u.Kind != plan.Service:
	case u.Pass != nil && u.Ready.Within == 0: // ready after its first good pass
		u.Ready.Within = plan.DefaultWithin
	case u.Pass != nil:
	case !u.Ready.Probed() && u.Ready.After == 0:
		u.Ready.After = plan.DefaultLife
	case u.Ready.Probed() && u.Ready.Within == 0:
		u.Ready.Within = plan.DefaultWithin
	}
}

func article(k plan.Kind) string { return "a " + k.String() }
