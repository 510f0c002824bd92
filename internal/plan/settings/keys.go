package settings

import (
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/google/jsonschema-go/jsonschema"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/variables"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/suggest"
)

// unitKey is one key of a unit's table.
type unitKey struct {
	kinds  []plan.Kind // none: all
	misfit string      // the hint for a unit of another kind
	early  bool        // it sets variables that other keys may use
	relay  bool        // it is valid for a relay, too
	says   string      // its purpose, in a sentence
	shape  func() *jsonschema.Schema
	read   func(*reader, *plan.Unit, *document.Entry)
}

func (k unitKey) fits(kind plan.Kind) bool {
	if kind == plan.PageServer {
		return k.relay || slices.Contains(k.kinds, plan.PageServer)
	}
	return len(k.kinds) == 0 || slices.Contains(k.kinds, kind)
}

// unitKeys is the one list of the keys in a unit's table, and so in [defaults].
var unitKeys map[string]unitKey

func init() {
	ends := []plan.Kind{plan.Task, plan.Suite}
	unitKeys = map[string]unitKey{
		"run": {says: "The command: a line for the shell, or a list of words.", shape: commandShape,
			read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Run = r.command(e.Value, e.Key) }},
		"dir": {says: "The working directory.", shape: textShape,
			read: readDir},
		"env": {relay: true, says: "Environment variables.", shape: envShape,
			read: readEnv, early: true},
		"env_files": {
			relay: true,
			says:  "Files of environment variables that override the project's.",
			shape: filesShape,
			read:  readUnitEnvFiles, early: true},
		"uses": {
			says: "Patterns of the names of variables that it receives from env files; " +
				"an edit of others does not restart it.",
			shape: func() *jsonschema.Schema { return listOf(textLike(".")) },
			read: func(r *reader, u *plan.Unit, e *document.Entry) {
				u.Uses = append([]string{}, r.namePatterns(e)...)
			},
		},
		"needs": {relay: true, says: "Units that must be ready or done before it starts.", shape: namesShape,
			read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Needs = r.references(u, e) }},
		"follows": {
			says: "Units after which it restarts or reruns, whenever they have finished again.", shape: namesShape,
			read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Follows = r.references(u, e) },
		},
		"watch": {says: "Patterns of files that affect it.", shape: patternsShape,
			read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Watch = r.patterns(e) }},
		"ignore": {relay: true, says: "Patterns of files that do not affect it.", shape: patternsShape,
			read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Ignore = r.patterns(e) }},
		"setup": {
			says:  "Expensive steps before its first run, skipped while their inputs are the same.",
			shape: stepsShape("run", "dir", "inputs", "outputs"),
			read: func(r *reader, u *plan.Unit, e *document.Entry) {
				u.Setup = r.steps(e, "run", "dir", "inputs", "outputs")
			},
		},
		"prelude": {says: "Quick steps before every run.", shape: stepsShape("run"),
			read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Prelude = r.steps(e, "run") }},
		"reaction": {
			says:  "Finer rules than watch: the first that matches decides what a change does.",
			shape: reactionsShape,
			read:  readReactions,
		},
		"debounce": {
			relay: true,
			says:  "How long files must be quiet before a burst of changes counts as one.",
			shape: durationShape,
			read:  func(r *reader, u *plan.Unit, e *document.Entry) { u.Debounce = r.Duration(e.Value, e.Key) },
		},
		"poll": {
			relay: true,
			says:  "The interval at which its files are compared, where the system reports no changes.",
			shape: pollShape,
			read:  readPoll,
		},
		"stop": {says: "How it is stopped: by a signal, a command or typed text.", shape: stopShape,
			read: readStop},
		"start": {
			relay: true,
			says:  "\"manual\": it starts only on request.",
			shape: func() *jsonschema.Schema { return choiceShape("auto", "manual") },
			read:  readStart,
		},
		"endpoint": {relay: true, says: "The address that it listens on.", shape: endpointShape,
			read: readEndpoint},
		"structured": {says: "false: lines of JSON, logfmt and go test -json are shown raw.", shape: flagShape,
			read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Unstructured = !r.Flag(e) }},
		"gitignore": {relay: true, says: "false: files that version control ignores count, too.", shape: flagShape,
			read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Unignored = !r.Flag(e) }},
		"skip_unchanged": {
			says:  "true: a save that does not change a file's content does not count.",
			shape: flagShape,
			read:  func(r *reader, u *plan.Unit, e *document.Entry) { u.SkipUnchanged = r.Flag(e) },
		},
		"ready": {says: "When it is ready.", shape: readyShape,
			kinds: []plan.Kind{plan.Service}, read: readReady,
			misfit: "it is done when it exits 0"},
		"pass": {says: "It picks up changes by itself: the lines that begin and end a pass.", shape: passShape,
			kinds: []plan.Kind{plan.Service}, read: readPass,
			misfit: "only a service picks up changes by itself"},
		"limit": {
			says:   "The longest duration of a run: one that takes longer is ended, and has failed.",
			shape:  durationShape,
			kinds:  ends,
			read:   func(r *reader, u *plan.Unit, e *document.Entry) { u.Limit = r.Duration(e.Value, e.Key) },
			misfit: "a service keeps running; ready = { within = ... } limits its start",
		},
		"health": {
			says:   "The interval at which the check of \"ready\" is repeated while it runs.",
			shape:  durationShape,
			kinds:  []plan.Kind{plan.Service},
			read:   func(r *reader, u *plan.Unit, e *document.Entry) { u.Health = r.Duration(e.Value, e.Key) },
			misfit: "only a service is checked while it runs",
		},
		"after_exit": {
			says:   "After it has exited by itself: wait for the next change, or retry with increasing delays.",
			shape:  func() *jsonschema.Schema { return choiceShape("wait", "retry") },
			kinds:  []plan.Kind{plan.Service},
			read:   readAfterExit,
			misfit: "only a service is started again after it has ended",
		},
		"outputs": {
			says:  "Patterns of files that it produces; they never count as its own inputs.",
			shape: patternsShape,
			kinds: ends, read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Outputs = r.patterns(e) },
			misfit: "leave what it writes out with \"ignore\""},
		"reuse": {says: "true: a good result is valid while everything it depends on is the same.", shape: flagShape,
			kinds:  []plan.Kind{plan.Task},
			read:   func(r *reader, u *plan.Unit, e *document.Entry) { u.Reuse = r.Flag(e) },
			misfit: "only a task's result is reused"},
		"keep_outputs": {
			says: "How large its outputs may be to be restored later when its inputs are as they were; " +
				"default 500 MB.",
			shape:  sizeShape,
			kinds:  []plan.Kind{plan.Task},
			read:   func(r *reader, u *plan.Unit, e *document.Entry) { u.KeepOutputs = r.Size(e) },
			misfit: "only a task's outputs are restored",
		},
		"observe": {says: "true: what it reads, writes and connects to is compared with its settings.",
			shape: flagShape, read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Observe = r.Flag(e) }},
		"alone": {says: "true: nothing else runs at the same time.", shape: flagShape,
			kinds: ends, read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Alone = r.Flag(e) },
			misfit: "services run at the same time as everything else"},
		"may_serve": {says: "true: it becomes a service once it listens or has run for 10 s.", shape: flagShape,
			kinds:  []plan.Kind{plan.Task},
			read:   func(r *reader, u *plan.Unit, e *document.Entry) { u.MayServe = r.Flag(e) },
			misfit: "only a task is not known to be a service beforehand"},
		"results": {says: "The format of its test results.", shape: resultsShape,
			kinds: ends, read: readResults,
			misfit: "only a suite or task has test results"},
		"findings": {says: "The format of its findings.", shape: findingsShape,
			read: readFindings},
		"findings_fail": {
			says:  "Which findings fail a run that exits with status 0.",
			shape: func() *jsonschema.Schema { return choiceShape(findingsFail...) },
			read: func(r *reader, u *plan.Unit, e *document.Entry) {
				u.FindingsFail = plan.FindingsFail(r.Choice(e.Value, e.Key, findingsFail...))
			},
		},
		"narrow": {says: "How selected tests are added to its command.", shape: narrowShape,
			kinds: ends, read: readNarrow,
			misfit: "only a suite or task has cases to choose from"},
		"widen": {says: "true: all tests run once the narrowed run passes.", shape: flagShape,
			kinds: ends, read: func(r *reader, u *plan.Unit, e *document.Entry) { u.Widen = r.Flag(e) },
			misfit: "only a suite or task has cases to choose from"},
		"overlap": {
			says:   "On a change during a run: finish, then run once more; or abandon the run and start again.",
			shape:  func() *jsonschema.Schema { return choiceShape("finish", "abandon") },
			kinds:  ends,
			read:   readOverlap,
			misfit: "a change restarts a service at once",
		},
		"listen": {
			says: "The address that it listens on.", shape: listenShape,
			kinds: []plan.Kind{
				plan.PageServer,
			},
			read:   readListen,
			misfit: "a relay listens; of a service say endpoint = { port = N }",
		},
		"to": {says: "The service whose pages it serves.", shape: nameShape,
			kinds: []plan.Kind{plan.PageServer}, read: readRelayTo, misfit: "only a relay serves what others answer"},
		"root": {says: "The directory whose files it serves.", shape: textShape,
			kinds: []plan.Kind{plan.PageServer}, read: readRelayRoot, misfit: "only a relay serves files"},
		"at": {says: "Prefixes of paths that another service or directory answers.",
			shape: relayAtShape,
			kinds: []plan.Kind{plan.PageServer}, read: readRelayAt, misfit: "only a relay serves pages"},
		"fallback": {says: "The file that is served for paths that match no file.", shape: textShape,
			kinds: []plan.Kind{plan.PageServer}, misfit: "only a relay serves files",
			read: func(r *reader, u *plan.Unit, e *document.Entry) {
				if r.Want(e.Value, document.TextKind, e.Key) {
					relayOf(u).Fallback = e.Value.Text
				}
			}},
		"refresh": {
			says:  "Patterns of files that refresh pages; style sheets and images are replaced in place.",
			shape: patternsShape,
			kinds: []plan.Kind{
				plan.PageServer,
			},
			misfit: "only a relay has pages; a reaction of a service can say do = \"refresh-page\"",
			read:   func(r *reader, u *plan.Unit, e *document.Entry) { relayOf(u).Refresh = r.patterns(e) },
		},
	}
}

// unitKeyNames lists the keys of one kind, or of all.
func unitKeyNames(kind plan.Kind, all bool) []string {
	var names []string
	for name, key := range unitKeys {
		if all || key.fits(kind) {
			names = append(names, name)
		}
	}
	sort.Strings(names)
	return names
}

// escapedDollar is a dollar sign that is written twice, except in $${NAME}, which would read like a variable.
var escapedDollar = lazyregexp.New(`\$\$([^{]|$)`)

func (r *reader) command(v *document.Value, key string) plan.Command {
	switch v.Kind {
	case document.TextKind:
		if strings.TrimSpace(v.Text) == "" {
			r.Wrong(v.At, `write a command, such as "go run ."`, "%q is empty", key)
		}
		return plan.Command{Shell: v.Text}
	case document.ListKind:
		written := r.Words(v, key)
		if len(v.Items) == 0 || len(written) > 0 && written[0] == "" {
			r.Wrong(v.At, `write a command, such as ["go", "run", "."]`, "%q is empty", key)
		}
		words := make([]string, len(written))
		for i, w := range written {
			words[i] = r.expand(w, v.At)
			written[i] = escapedDollar.ReplaceAllString(w, "$$$1") // people read what the program gets
		}
		if slices.Equal(words, written) {
			written = nil
		}
		return plan.Command{Words: words, Written: written}
	}
	r.Wrong(v.At, "", "%q must be a string for the shell or a list of words, not %s", key, v.Kind)
	return plan.Command{}
}

// minPoll prevents polling from becoming the machine's main work.
const minPoll = 100 * time.Millisecond

func readPoll(r *reader, u *plan.Unit, e *document.Entry) {
	u.Poll = r.Duration(e.Value, e.Key)
	if u.Poll > 0 && u.Poll < minPoll {
		r.Wrong(
			e.Value.At,
			"write at least "+minPoll.String(),
			"%q would look at files all the time: %q",
			e.Key,
			e.Value.Text,
		)
	}
}

// references reads names of other units; whether they exist is known only when the whole file has been read.
func (r *reader) references(u *plan.Unit, e *document.Entry) []string {
	r.places[u.Name+" "+e.Key] = e
	return r.Words(e.Value, e.Key)
}

func (r *reader) patterns(e *document.Entry) []plan.Pattern {
	if !r.Want(e.Value, document.ListKind, e.Key) {
		return nil
	}
	patterns := make([]plan.Pattern, 0, len(e.Value.Items))
	for _, item := range e.Value.Items {
		if r.Want(item, document.TextKind, e.Key) {
			patterns = append(patterns, r.pattern(item))
		}
	}
	return patterns
}

func (r *reader) pattern(v *document.Value) plan.Pattern {
	if v.Text == "" || !doublestar.ValidatePattern(v.Text) {
		r.Wrong(v.At, "see the patterns in docs/settings.md", "%q is not a pattern", v.Text)
	} else if filepath.IsAbs(filepath.FromSlash(v.Text)) {
		r.Wrong(
			v.At,
			"write it relative to the directory of "+plan.FileName+", such as \"src/**\"",
			"the pattern %q is absolute",
			v.Text,
		)
	} else if ways(v.Text) > maxWays {
		r.Wrong(v.At, "write several patterns", "%q has too many choices in its braces", v.Text)
	}
	return plan.Pattern{Text: r.rebased(v.Text), Line: v.At.Line}
}

// maxWays limits the patterns without braces that one with braces stands for.
const maxWays = 1000

// ways returns for how many patterns the braces of one stand, at most.
func ways(pattern string) int {
	all, group := 1, 1
	for _, c := range pattern {
		switch c {
		case ',':
			group++
		case '}':
			all, group = min(all*group, maxWays+1), 1
		}
	}
	return all
}

func readDir(r *reader, u *plan.Unit, e *document.Entry) {
	if dir := r.directory(e); dir != "" {
		u.Dir = dir
	}
}

// dir reads a working directory, which must exist; "": it is no text.
func (r *reader) directory(e *document.Entry) string {
	if !r.Want(e.Value, document.TextKind, e.Key) {
		return ""
	}
	dir := r.absolute(e.Value.Text)
	info, err := os.Stat(dir)
	switch {
	case err != nil:
		r.Wrong(e.Value.At, nearestFolder(dir), "there is no directory %q", e.Value.Text)
	case !info.IsDir():
		r.Wrong(e.Value.At, "\"dir\" must be a directory", "%q is a file", e.Value.Text)
	}
	return dir
}

// nearestFolder suggests a directory next to the missing one with a similar name.
func nearestFolder(dir string) string {
	siblings, err := os.ReadDir(filepath.Dir(dir))
	if err != nil {
		return ""
	}
	var names []string
	for _, s := range siblings {
		if s.IsDir() {
			names = append(names, s.Name())
		}
	}
	if near := suggest.Name(filepath.Base(dir), names); near != "" {
		return "did you mean " + strconv.Quote(near) + "?"
	}
	return ""
}

func readEnv(r *reader, u *plan.Unit, e *document.Entry) {
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	u.Env, u.OwnEnv = nil, nil
	for _, v := range e.Value.Table.Entries {
		if v.Value.Kind != document.TextKind && v.Value.Kind != document.NumberKind {
			r.Wrong(v.Value.At, "put it in quotes", "variable %s must be a string, not %s", v.Key, v.Value.Kind)
			continue
		}
		// A variable may use those of the machine and the files, not its neighbors.
		u.Env = append(u.Env, plan.Variable{Name: v.Key, Value: r.expandFrom(r.env.InFiles, v.Value.Text, v.Value.At)})
		u.OwnEnv = append(u.OwnEnv, plan.Variable{Name: v.Key, Value: v.Value.Text})
	}
}

var signals = []string{"TERM", "INT", "HUP", "QUIT", "USR1", "USR2", "KILL"}

func readStop(r *reader, u *plan.Unit, e *document.Entry) {
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	for _, k := range e.Value.Table.Entries {
		switch k.Key {
		case "signal":
			if r.Want(k.Value, document.TextKind, "signal") {
				u.Stop.Signal = signals[r.Choice(k.Value, "signal", signals...)]
			}
		case "run":
			c := r.command(k.Value, "run")
			u.Stop.Run = &c
		case "type":
			if r.Want(k.Value, document.TextKind, "type") {
				u.Stop.Type = k.Value.Text
			}
		case "grace":
			u.Stop.Grace = r.Duration(k.Value, "grace")
		default:
			r.Unknown(k, "stop", []string{"signal", "run", "type", "grace"})
		}
	}
	if typed := e.Value.Table.Get("type"); typed != nil && e.Value.Table.Get("run") != nil {
		r.Wrong(typed.KeyAt, "keep one of them", "\"stop\" has both \"run\" and \"type\"")
	}
}

var whenUp = []string{"tell", "browse", "quiet"}

func readEndpoint(r *reader, u *plan.Unit, e *document.Entry) {
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	for _, k := range e.Value.Table.Entries {
		switch k.Key {
		case "port":
			u.Endpoint.Port = r.port(k.Value, k.Key)
		case "label":
			if r.Want(k.Value, document.TextKind, k.Key) {
				u.Endpoint.Label = k.Value.Text
			}
		case "when_up":
			u.Endpoint.WhenUp = whenUp[r.Choice(k.Value, k.Key, whenUp...)]
		default:
			r.Unknown(k, "endpoint", []string{"port", "label", "when_up"})
		}
	}
}

func readStart(r *reader, u *plan.Unit, e *document.Entry) {
	u.Manual = r.Choice(e.Value, e.Key, "auto", "manual") == 1
}

func readAfterExit(r *reader, u *plan.Unit, e *document.Entry) {
	u.AfterExit = plan.AfterExit(r.Choice(e.Value, e.Key, "wait", "retry"))
}

func readOverlap(r *reader, u *plan.Unit, e *document.Entry) {
	u.Overlap = plan.Overlap(r.Choice(e.Value, e.Key, "finish", "abandon"))
}

func readReady(r *reader, u *plan.Unit, e *document.Entry) {
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	u.Ready = plan.Ready{}
	var ways []*document.Entry
	for _, k := range e.Value.Table.Entries {
		switch k.Key {
		case "port":
			u.Ready.Port = r.port(k.Value, k.Key)
		case "http":
			u.Ready.HTTP = r.httpURL(k.Value, k.Key)
		case "insecure":
			u.Ready.Insecure = r.Flag(k)
			continue
		case "line":
			u.Ready.Line = r.Expression(k.Value, k.Key)
		case "file":
			if r.Want(k.Value, document.TextKind, k.Key) {
				u.Ready.File = r.absolute(r.expand(k.Value.Text, k.Value.At))
			}
		case "run":
			c := r.command(k.Value, k.Key)
			u.Ready.Run = &c
		case "after":
			u.Ready.After = r.Duration(k.Value, k.Key)
		case "within":
			u.Ready.Within = r.Duration(k.Value, k.Key)
			continue
		default:
			r.Unknown(k, "ready", []string{"port", "http", "line", "file", "run", "after", "within", "insecure"})
			continue
		}
		ways = append(ways, k)
	}
	if u.Ready.Insecure && !strings.HasPrefix(u.Ready.HTTP, "https:") && len(r.Found) == 0 {
		r.Wrong(
			e.Value.Table.Get("insecure").KeyAt,
			`it is for ready = { http = "https://..." }`,
			"\"insecure\" requires an https URL",
		)
	}
	if len(ways) != 1 && len(r.Found) == 0 {
		at := e.KeyAt
		if len(ways) > 1 {
			at = ways[1].KeyAt
		}
		r.Wrong(
			at,
			"keep one of port, http, line, file, run, after",
			"\"ready\" must have one way to tell, not %d",
			len(ways),
		)
	}
}

// readPass reads how the passes of a service are recognized: "auto", or by expressions.
func readPass(r *reader, u *plan.Unit, e *document.Entry) {
	u.Pass = &plan.Pass{Within: plan.DefaultTakeUp}
	if e.Value.Kind == document.TextKind {
		r.Choice(e.Value, e.Key, "auto")
		u.Pass.Auto = true
		return
	}
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	for _, k := range e.Value.Table.Entries {
		switch k.Key {
		case "working":
			u.Pass.Working = r.Expression(k.Value, k.Key)
		case "good":
			u.Pass.Good = r.Expression(k.Value, k.Key)
		case "bad":
			u.Pass.Bad = r.Expression(k.Value, k.Key)
		case "within":
			u.Pass.Within = r.Duration(k.Value, k.Key)
		default:
			r.Unknown(k, "pass", []string{"working", "good", "bad", "within"})
		}
	}
	phrases := e.Value.Table.Get("working") != nil || e.Value.Table.Get("bad") != nil
	switch {
	case e.Value.Table.Get("good") != nil:
	case phrases:
		r.Wrong(e.KeyAt, `say which line ends a good one: good = "found 0 errors"`, "\"pass\" has no \"good\"")
	default: // the phrases of the common tools, with another time
		u.Pass.Auto = true
	}
}

func (r *reader) absolute(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(r.dir(), path)
}

// steps reads a list of commands, each a text, a list of words, or a table with some of these keys.
func (r *reader) steps(e *document.Entry, keys ...string) []plan.Step {
	if !r.Want(e.Value, document.ListKind, e.Key) {
		return nil
	}
	steps := make([]plan.Step, 0, len(e.Value.Items))
	for _, item := range e.Value.Items {
		if item.Kind != document.TablesKind {
			steps = append(steps, plan.Step{Run: r.command(item, e.Key)})
			continue
		}
		var s plan.Step
		for _, k := range item.Table.Entries {
			switch {
			case !slices.Contains(keys, k.Key):
				r.Unknown(k, "a step of "+e.Key, keys)
			case k.Key == "run":
				s.Run = r.command(k.Value, k.Key)
			case k.Key == "dir":
				s.Dir = r.directory(k)
			case k.Key == "inputs":
				s.Inputs = r.patterns(k)
			default:
				s.Outputs = r.patterns(k)
			}
		}
		if item.Table.Get("run") == nil {
			r.Wrong(item.At, `say what it runs: { run = "..." }`, "a step of %q has no \"run\"", e.Key)
		}
		steps = append(steps, s)
	}
	return steps
}

func (r *reader) port(v *document.Value, key string) int {
	text := strings.ReplaceAll(v.Text, "_", "")
	switch {
	case v.Kind == document.TextKind && variables.Refers(v.Text):
		if text = r.expand(v.Text, v.At); r.checking {
			return 0
		}
	case !r.Want(v, document.NumberKind, key):
		return 0
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 65535 {
		r.Wrong(v.At, "ports go from 1 to 65535", "%s is not a port", v.Text)
	}
	return n
}

func (r *reader) httpURL(v *document.Value, key string) string {
	if !r.Want(v, document.TextKind, key) {
		return ""
	}
	text := r.expand(v.Text, v.At)
	u, err := url.Parse(text)
	if !r.checking && (err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
		r.Wrong(v.At, "write it whole, such as http://127.0.0.1:4102/health", "%q is not a web address", v.Text)
	}
	return text
}
