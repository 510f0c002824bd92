// Package settings reads an omnivigil.toml into a plan.Plan, and a user's personal file, and checks both; it has
// their JSON Schema and writes small edits into a settings file. Every problem of a file is reported at once with its
// location, so that a file can be fixed in one go.
//
// It starts nothing and watches nothing. Start reading at Read; each key of a unit has an entry in keys.go.
package settings

import (
	"fmt"
	"path"
	"path/filepath"
	"runtime"
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/values"
	"omnivigil/internal/plan/variables"
	"omnivigil/internal/text/lazyregexp"
)

// The default limits.
var (
	defaultLogs    = plan.Limits{Size: 2e9, Age: 14 * values.Day}
	defaultHistory = plan.Limits{Size: 500e6, Age: 180 * values.Day}
)

// defaultKeepOutputs is how large the outputs of a run may be to be kept.
const defaultKeepOutputs = 500e6

// Read reads and validates the settings file at path, with those of its members. If one is invalid, the error is a
// Problems with everything that is wrong.
func Read(path string) (*plan.Plan, error) { return ReadFor(path, "") }

// ReadAgain reads the edited settings of a plan. A member whose settings are invalid keeps those that it had in the
// plan, and has a Problem.
func ReadAgain(before *plan.Plan) (*plan.Plan, error) {
	return readFor(before.File, before.Root, before)
}

// ReadFor is Read for the settings of a directory that are kept elsewhere; empty: in it.
func ReadFor(path, root string) (*plan.Plan, error) { return readFor(path, root, nil) }

// Edited returns what a plan would be if files of its settings, by absolute path, had other contents.
func Edited(p *plan.Plan, texts map[string][]byte) (*plan.Plan, error) {
	of := project{shown: p.File, root: p.Root, texts: texts}
	data, err := of.data(p.File)
	if err != nil {
		return nil, fmt.Errorf("read the settings %s: %w", p.File, files.Reason(err))
	}
	return of.parse(p.File, data)
}

func readFor(path, root string, before *plan.Plan) (*plan.Plan, error) {
	abs, err := filepath.Abs(path)
	if err != nil {
		return nil, fmt.Errorf("find %s: %w", path, err)
	}
	data, err := files.Read(abs, files.Sane)
	if err != nil {
		return nil, fmt.Errorf("read the settings %s: %w", path, files.Reason(err))
	}
	return project{shown: path, root: rootOf(abs, root), before: before}.parse(abs, data)
}

// Parse parses data as the contents of a settings file. The errors are those of Read.
func Parse(file string, data []byte) (*plan.Plan, error) { return parsePlan(file, file, "", data) }

// parsePlan parses data as the settings file abs of the directory root (empty: the file's own); shown is its name in
// problems.
func parsePlan(shown, abs, root string, data []byte) (*plan.Plan, error) {
	return project{shown: shown, root: rootOf(abs, root)}.parse(abs, data)
}

// rootOf is the directory that a settings file is for; root is empty if that is its own.
func rootOf(abs, root string) string {
	if root == "" {
		return filepath.Dir(abs)
	}
	return root
}

// reader turns a document into a plan, or a part of one, and collects every problem.
type reader struct {
	*values.Reader
	membership
	plan     *plan.Plan
	defaults *document.Table
	env      *variables.Known
	places   map[string]*document.Entry // the location of each unit's table and of each of its references
	checking bool                       // reading [defaults] on their own: there are no units' variables
}

var unitNames = lazyregexp.New(`^[A-Za-z0-9][A-Za-z0-9_.-]*$`)

func (r *reader) readFile() {
	// [project] and [defaults] come first, wherever they are: units use them.
	if e := r.Root.Get("project"); e != nil {
		r.readProject(e.Value)
	}
	if e := r.Root.Get("defaults"); e != nil && r.Want(e.Value, document.TablesKind, "[defaults]") {
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
			r.EachTable(e, r.readGroup)
		default:
			r.Unknown(e, "the file", []string{"project", "defaults", "service", "task", "suite", "relay", "group"})
		}
	}
	r.inFileOrder()
	if len(r.own()) == 0 && len(r.plan.MemberPatterns) == 0 && len(r.Found) == 0 {
		r.Wrong(
			document.Place{Line: 1, Column: 1, Width: 1},
			`add one, such as [service.web] with run = "..."`,
			"the file names no unit",
		)
	}
}

// inFileOrder sorts the units by their order in the file, across kinds.
func (r *reader) inFileOrder() {
	slices.SortStableFunc(r.own(), func(a, b *plan.Unit) int { return a.Line - b.Line })
}

// namePatterns reads patterns of names of variables.
func (r *reader) namePatterns(e *document.Entry) []string {
	patterns := r.Words(e.Value, e.Key)
	for i, p := range patterns {
		if _, err := path.Match(p, ""); err != nil {
			r.Wrong(e.Value.Items[i].At, `such as "*_TOKEN"`, "%q is not a pattern of names", p)
		}
	}
	return patterns
}

func (r *reader) readProject(v *document.Value) {
	if !r.Want(v, document.TablesKind, "[project]") {
		return
	}
	for _, e := range v.Table.Entries {
		if r.above != nil && r.ofProject(e) {
			continue
		}
		switch e.Key {
		case "name":
			if r.Want(e.Value, document.TextKind, e.Key) {
				r.plan.Name = e.Value.Text
			}
		case "env_files":
			r.plan.EnvFiles, r.env.Project = r.readEnvFiles(e)
		case "secret":
			r.plan.Secret = append(r.plan.Secret, r.namePatterns(e)...)
		case "members":
			r.plan.MemberPatterns = r.memberPatterns(e)
		case "jobs":
			r.plan.Jobs = r.jobs(e)
		case "logs":
			r.Limits(e, &r.plan.Logs)
		case "history":
			r.Limits(e, &r.plan.History)
		case "keep_changes":
			r.plan.KeepChanges = r.Flag(e)
		case "share":
			r.readShare(e, v.Table)
		case "on_verdict":
			c := r.PlainCommand(e)
			r.plan.OnVerdict = &c
		default:
			r.Unknown(e, "[project]", []string{"name", "env_files", "secret", "jobs", "logs", "history", "keep_changes",
				"members", "share", "on_verdict"})
		}
	}
}

// jobs reads the maximum number of tasks, suites and setup steps at once.
func (r *reader) jobs(e *document.Entry) int {
	if !r.Want(e.Value, document.NumberKind, e.Key) {
		return 0
	}
	n, err := strconv.Atoi(strings.ReplaceAll(e.Value.Text, "_", ""))
	if err != nil || n < 1 {
		r.Wrong(e.Value.At, "it is at least 1", "%s is not a number of jobs", e.Value.Text)
	}
	return n
}

// defaultJobs is the default of jobs.
func defaultJobs() int { return max(2, runtime.NumCPU()) }

func (r *reader) readGroup(e *document.Entry) {
	g := plan.Group{Name: r.full(e.Key)}
	for _, member := range e.Value.Table.Entries {
		if member.Key != "units" {
			r.Unknown(member, "[group."+e.Key+"]", []string{"units"})
			continue
		}
		g.Units = r.Words(member.Value, "units")
		r.places["group "+g.Name] = member
	}
	if r.places["group "+g.Name] == nil {
		r.places["group "+g.Name] = e
	}
	r.plan.Groups = append(r.plan.Groups, g)
}

func (r *reader) readDefaults() {
	scratch := r.newUnit("", plan.Service)
	r.checking, r.env.Unit = true, scratch
	defer func() { r.checking = false }()
	for _, e := range r.defaults.Entries {
		if key, ok := unitKeys[e.Key]; ok {
			key.read(r, scratch, e)
		} else {
			r.Unknown(e, "[defaults]", unitKeyNames(0, true))
		}
	}
}

func (r *reader) readUnits(e *document.Entry, kind plan.Kind) {
	r.EachTable(e, func(e *document.Entry) { r.readUnit(e, kind) })
}

func (r *reader) newUnit(name string, kind plan.Kind) *plan.Unit {
	return &plan.Unit{
		Name: name, Member: r.member, File: r.file, Kind: kind, Dir: r.dir(), EnvFiles: r.envFiles,
		Debounce: plan.DefaultDebounce, Stop: plan.Stop{Signal: "TERM", Grace: plan.DefaultGrace},
	}
}

func (r *reader) readUnit(e *document.Entry, kind plan.Kind) {
	header := fmt.Sprintf("[%s.%s]", kind, e.Key)
	if !unitNames.MatchString(e.Key) {
		r.Wrong(e.KeyAt, "letters, digits, '-', '_' and '.' make a name", "%q cannot name a unit", e.Key)
	}
	if e.Key == "omnivigil" {
		r.Wrong(e.KeyAt, "choose another name", "the name %q stands for Omnivigil itself", e.Key)
	}
	if before := r.places[r.full(e.Key)]; before != nil {
		r.Wrong(
			e.KeyAt,
			"give one of them another name",
			"a unit %q is already defined on line %d",
			e.Key,
			before.KeyAt.Line,
		)
	}
	u := r.newUnit(r.full(e.Key), kind)
	if kind == plan.Suite {
		u.Results.Form = plan.ResultsAuto
	}
	r.env.Unit, r.env.Own = u, nil
	u.Line = e.KeyAt.Line
	r.places[u.Name], r.owners[u.Name] = e, r

	// Keys that set variables come first: other keys may use them.
	for _, early := range []bool{true, false} {
		r.readDefaultsOf(u, early)
		for _, k := range e.Value.Table.Entries {
			key, ok := unitKeys[k.Key]
			switch {
			case ok && key.early != early, !ok && early:
			case !ok:
				r.Unknown(k, header, unitKeyNames(kind, false))
			case !key.fits(kind):
				r.Wrong(k.KeyAt, key.misfit, "%s takes no %q", article(kind), k.Key)
			default:
				key.read(r, u, k)
			}
		}
	}
	if kind == plan.PageServer {
		r.finishRelay(u, e)
	} else if e.Value.Table.Get("run") == nil && !r.isDefault("run") {
		r.Wrong(e.KeyAt, `say what it runs: run = "..."`, "%s has no \"run\"", header)
	}
	finishReady(u)
	u.ComparesTimes = u.Relay == nil && u.Run.ComparesTimes()
	if u.ComparesTimes && kind.Ends() && e.Value.Table.Get("overlap") == nil && !r.isDefault("overlap") {
		u.Overlap = plan.Abandon // what it made in the meantime would hide the change from its next run
	}
	if serve := e.Value.Table.Get("may_serve"); serve != nil && u.MayServe && u.Manual {
		r.Wrong(
			serve.KeyAt,
			`a task that only starts when asked does not react to changes: say [service.NAME] or leave "may_serve" out`,
			"\"may_serve\" and start = \"manual\" exclude each other",
		)
	}
	if u.Reuse = u.Reuse &&
		(e.Value.Table.Get("outputs") != nil || r.isDefault("outputs")); !u.Reuse &&
		asksForReuse(e) {
		r.Wrong(
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
		r.Wrong(
			health.KeyAt,
			"give it a check that can be repeated, such as ready = { port = 4102 }",
			"\"health\" needs \"ready\" with a port, http or run",
		)
	}
	u.Env = append(r.env.Received(), u.Env...)
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
