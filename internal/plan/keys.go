package plan

import (
	"net/url"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/text/suggest"

	"github.com/bmatcuk/doublestar/v4"
	"github.com/google/jsonschema-go/jsonschema"
)

// What a unit gets where the file says nothing.
const (
	DefaultDebounce = 150 * time.Millisecond
	DefaultGrace    = 5 * time.Second
	DefaultLife     = 500 * time.Millisecond // of a service that says nothing of ready
	DefaultWithin   = 30 * time.Second
	DefaultTakeUp   = 5 * time.Second  // of a service that takes up changes by itself
	ServesAfter     = 10 * time.Second // of life, a task that may serve is a service
)

// unitKey is one key that a unit's table may have.
type unitKey struct {
	kinds  []Kind // none: all
	misfit string // the hint where it stands in a unit of another kind
	early  bool   // it sets variables that other keys may use
	relay  bool   // a relay takes it as well, which takes none that does not say so
	says   string // what it is for, in a sentence
	shape  func() *jsonschema.Schema
	read   func(*reader, *Unit, *entry)
}

func (k unitKey) fits(kind Kind) bool {
	if kind == PageServer {
		return k.relay || slices.Contains(k.kinds, PageServer)
	}
	return len(k.kinds) == 0 || slices.Contains(k.kinds, kind)
}

// unitKeys is the one list of what a unit's table, and so [defaults], may say.
var unitKeys map[string]unitKey

func init() {
	ends := []Kind{Task, Suite}
	unitKeys = map[string]unitKey{
		"run": {says: "What it runs: a line for the shell, or a list of words without one.", shape: commandShape,
			read: func(r *reader, u *Unit, e *entry) { u.Run = r.command(e.value, e.key) }},
		"dir": {says: "The folder that it runs in.", shape: textShape,
			read: readDir},
		"env": {relay: true, says: "Variables of its own.", shape: envShape,
			read: readEnv, early: true},
		"env_files": {relay: true, says: "Files of variables that come before those of the project.", shape: textsShape,
			read: readUnitEnvFiles, early: true},
		"needs": {relay: true, says: "Units that must be ready or done before it starts.", shape: textsShape,
			read: func(r *reader, u *Unit, e *entry) { u.Needs = r.references(u, e) }},
		"follows": {
			says:  "Units after which it restarts or reruns, whenever they have finished again.",
			shape: textsShape,
			read:  func(r *reader, u *Unit, e *entry) { u.Follows = r.references(u, e) },
		},
		"watch": {says: "Patterns of files whose changes concern it.", shape: textsShape,
			read: func(r *reader, u *Unit, e *entry) { u.Watch = r.patterns(e) }},
		"ignore": {relay: true, says: "Patterns of files whose changes do not.", shape: textsShape,
			read: func(r *reader, u *Unit, e *entry) { u.Ignore = r.patterns(e) }},
		"setup": {
			says:  "Heavy steps before its first run, skipped while their inputs stay the same.",
			shape: stepsShape("run", "inputs", "outputs"),
			read:  func(r *reader, u *Unit, e *entry) { u.Setup = r.steps(e, "run", "inputs", "outputs") },
		},
		"prelude": {says: "Quick steps before every run.", shape: stepsShape("run"),
			read: func(r *reader, u *Unit, e *entry) { u.Prelude = r.steps(e, "run") }},
		"reaction": {
			says:  "Finer rules than watch: the first that matches says what a change does.",
			shape: reactionsShape,
			read:  readReactions,
		},
		"debounce": {
			relay: true,
			says:  "How long files must be quiet before their changes count as one.",
			shape: durationShape,
			read:  func(r *reader, u *Unit, e *entry) { u.Debounce = r.duration(e.value, e.key) },
		},
		"poll": {
			relay: true,
			says:  "How often to look at its files, where the system does not tell of them.",
			shape: durationShape,
			read:  readPoll,
		},
		"stop": {says: "How it is stopped.", shape: stopShape,
			read: readStop},
		"start": {
			relay: true,
			says:  "\"manual\": only when asked for.",
			shape: func() *jsonschema.Schema { return choiceShape("auto", "manual") },
			read:  readStart,
		},
		"endpoint": {relay: true, says: "An address that it is known to listen on.", shape: endpointShape,
			read: readEndpoint},
		"structured": {says: "false: lines of JSON and logfmt are shown as they are.", shape: flagShape,
			read: func(r *reader, u *Unit, e *entry) { u.Unstructured = !r.flag(e) }},
		"gitignore": {relay: true, says: "false: files count that version control ignores.", shape: flagShape,
			read: func(r *reader, u *Unit, e *entry) { u.Unignored = !r.flag(e) }},
		"skip_unchanged": {
			says:  "true: a file that is saved with what it held before does not count.",
			shape: flagShape,
			read:  func(r *reader, u *Unit, e *entry) { u.SkipUnchanged = r.flag(e) },
		},
		"ready": {says: "When it counts as ready.", shape: readyShape,
			kinds: []Kind{Service}, read: readReady,
			misfit: "it is done when it exits 0"},
		"pass": {says: "How to tell when it takes up changes by itself.", shape: passShape,
			kinds: []Kind{Service}, read: readPass,
			misfit: "only a service takes up changes by itself"},
		"after_exit": {
			says:   "What follows when it has ended by itself.",
			shape:  func() *jsonschema.Schema { return choiceShape("wait", "retry") },
			kinds:  []Kind{Service},
			read:   readAfterExit,
			misfit: "only a service is started again after it has ended",
		},
		"outputs": {says: "Patterns of what it makes, which never counts as a change for it.", shape: textsShape,
			kinds: ends, read: func(r *reader, u *Unit, e *entry) { u.Outputs = r.patterns(e) },
			misfit: "leave what it writes out with \"ignore\""},
		"reuse": {says: "true: its last good result holds while all that it depends on is the same.", shape: flagShape,
			kinds: []Kind{Task}, read: func(r *reader, u *Unit, e *entry) { u.Reuse = r.flag(e) },
			misfit: "only a task's result is reused"},
		"alone": {says: "true: no other task or suite runs beside it.", shape: flagShape,
			kinds: ends, read: func(r *reader, u *Unit, e *entry) { u.Alone = r.flag(e) },
			misfit: "services run beside whatever else runs"},
		"may_serve": {says: "true: it is a service once it listens or has lived for 10 s.", shape: flagShape,
			kinds: []Kind{Task}, read: func(r *reader, u *Unit, e *entry) { u.MayServe = r.flag(e) },
			misfit: "only a task is not known to be a service beforehand"},
		"results": {says: "How the results of its tests are read.", shape: textShape,
			kinds: ends, read: readResults,
			misfit: "only a suite or task has test results"},
		"findings": {says: "How the places in files are read that tools tell of.", shape: findingsShape,
			read: readFindings},
		"findings_fail": {
			says:  "Which of them make a run fail that ended well.",
			shape: func() *jsonschema.Schema { return choiceShape(findingsFail...) },
			read: func(r *reader, u *Unit, e *entry) {
				u.FindingsFail = FindingsFail(r.choice(e.value, e.key, findingsFail...))
			},
		},
		"narrow": {says: "How chosen cases are added to its command.", shape: narrowShape,
			kinds: ends, read: readNarrow,
			misfit: "only a suite or task has cases to choose from"},
		"widen": {says: "true: all of it runs once a narrowed run is green.", shape: flagShape,
			kinds: ends, read: func(r *reader, u *Unit, e *entry) { u.Widen = r.flag(e) },
			misfit: "only a suite or task has cases to choose from"},
		"overlap": {
			says:   "What a change during a run does.",
			shape:  func() *jsonschema.Schema { return choiceShape("finish", "abandon") },
			kinds:  ends,
			read:   readOverlap,
			misfit: "a change restarts a service at once",
		},
		"listen": {
			says:  "The address that the pages are served on.",
			shape: textShape,
			kinds: []Kind{
				PageServer,
			},
			read:   readListen,
			misfit: "a relay listens; of a service say endpoint = { port = N }",
		},
		"to": {says: "The service whose pages they are.", shape: textShape,
			kinds: []Kind{PageServer}, read: readRelayTo, misfit: "only a relay serves what others answer"},
		"root": {says: "The folder whose files are the pages.", shape: textShape,
			kinds: []Kind{PageServer}, read: readRelayRoot, misfit: "only a relay serves files"},
		"at": {says: "Prefixes of paths that go elsewhere: to a service, or to a folder.",
			shape: func() *jsonschema.Schema { return named(textShape()) },
			kinds: []Kind{PageServer}, read: readRelayAt, misfit: "only a relay serves pages"},
		"fallback": {says: "The file that answers paths that no file has.", shape: textShape,
			kinds: []Kind{PageServer}, misfit: "only a relay serves files",
			read: func(r *reader, u *Unit, e *entry) {
				if r.want(e.value, textKind, e.key) {
					relayOf(u).Fallback = e.value.text
				}
			}},
		"refresh": {
			says:  "Patterns of files that refresh pages by themselves; style sheets and images are swapped in place.",
			shape: textsShape,
			kinds: []Kind{
				PageServer,
			},
			misfit: "only a relay has pages; a reaction of a service can say do = \"refresh-page\"",
			read:   func(r *reader, u *Unit, e *entry) { relayOf(u).Refresh = r.patterns(e) },
		},
	}
}

// unitKeyNames lists the keys of one kind, or of all.
func unitKeyNames(kind Kind, all bool) []string {
	var names []string
	for name, key := range unitKeys {
		if all || key.fits(kind) {
			names = append(names, name)
		}
	}
	sort.Strings(names)
	return names
}

// want reports whether v is of that kind, and notes a problem if not.
func (r *reader) want(v *value, kind valueKind, key string) bool {
	if v.kind == kind {
		return true
	}
	r.wrong(v.at, "", "%q must be %s, not %s", key, kind, v.kind)
	return false
}

// words reads a list of strings.
func (r *reader) words(v *value, key string) []string {
	if !r.want(v, listKind, key) {
		return nil
	}
	words := make([]string, 0, len(v.items))
	for _, item := range v.items {
		if r.want(item, textKind, key) {
			words = append(words, item.text)
		}
	}
	return words
}

func (r *reader) command(v *value, key string) Command {
	switch v.kind {
	case textKind:
		if strings.TrimSpace(v.text) == "" {
			r.wrong(v.at, `write a command, such as "go run ."`, "%q is empty", key)
		}
		return Command{Shell: v.text}
	case listKind:
		written := r.words(v, key)
		if len(v.items) == 0 || len(written) > 0 && written[0] == "" {
			r.wrong(v.at, `write a command, such as ["go", "run", "."]`, "%q is empty", key)
		}
		words := make([]string, len(written))
		for i, w := range written {
			words[i] = r.expand(w, v.at)
		}
		if slices.Equal(words, written) {
			written = nil
		}
		return Command{Words: words, Written: written}
	}
	r.wrong(v.at, "", "%q must be a string for the shell or a list of words, not %s", key, v.kind)
	return Command{}
}

func (r *reader) duration(v *value, key string) time.Duration {
	d, err := time.ParseDuration(v.text)
	switch {
	case v.kind != textKind:
		r.wrong(v.at, "", `%q must be a duration, such as "150ms", not %s`, key, v.kind)
	case err != nil || d < 0:
		r.wrong(v.at, "", `%q must be a duration, such as "150ms" or "2s", not %q`, key, v.text)
	default:
		return d
	}
	return 0
}

func (r *reader) flag(e *entry) bool {
	return r.want(e.value, flagKind, e.key) && e.value.text == "true"
}

// minPoll keeps looking at files from becoming the machine's main work.
const minPoll = 100 * time.Millisecond

func readPoll(r *reader, u *Unit, e *entry) {
	u.Poll = r.duration(e.value, e.key)
	if u.Poll > 0 && u.Poll < minPoll {
		r.wrong(
			e.value.at,
			"write at least "+minPoll.String(),
			"%q would look at files all the time: %q",
			e.key,
			e.value.text,
		)
	}
}

// choice reads a text that must be one of a few and returns its index.
func (r *reader) choice(v *value, key string, choices ...string) int {
	if !r.want(v, textKind, key) {
		return 0
	}
	if i := slices.Index(choices, v.text); i >= 0 {
		return i
	}
	hint := "it takes " + strings.Join(choices, " or ")
	if near := suggest.Name(v.text, choices); near != "" {
		hint = "did you mean " + strconv.Quote(near) + "?"
	}
	r.wrong(v.at, hint, "%q cannot be %q", key, v.text)
	return 0
}

// references reads names of other units; whether they exist is known only when
// the whole file has been read.
func (r *reader) references(u *Unit, e *entry) []string {
	r.places[u.Name+" "+e.key] = e
	return r.words(e.value, e.key)
}

func (r *reader) patterns(e *entry) []Pattern {
	if !r.want(e.value, listKind, e.key) {
		return nil
	}
	patterns := make([]Pattern, 0, len(e.value.items))
	for _, item := range e.value.items {
		if r.want(item, textKind, e.key) {
			patterns = append(patterns, r.pattern(item))
		}
	}
	return patterns
}

func (r *reader) pattern(v *value) Pattern {
	if v.text == "" || !doublestar.ValidatePattern(v.text) {
		r.wrong(v.at, "see the patterns in docs/settings.md", "%q is not a pattern", v.text)
	} else if filepath.IsAbs(filepath.FromSlash(v.text)) {
		r.wrong(
			v.at,
			"write it relative to the folder of "+FileName+", such as \"src/**\"",
			"the pattern %q is absolute",
			v.text,
		)
	} else if ways(v.text) > maxWays {
		r.wrong(v.at, "write several patterns", "%q has too many choices in its braces", v.text)
	}
	return Pattern{v.text, v.at.line}
}

// maxWays is how many patterns without braces one with braces may stand for.
const maxWays = 1000

// ways returns how many patterns the braces of one stand for, at most.
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

func readDir(r *reader, u *Unit, e *entry) {
	if !r.want(e.value, textKind, e.key) {
		return
	}
	u.Dir = r.absolute(e.value.text)
	info, err := os.Stat(u.Dir)
	switch {
	case err != nil:
		r.wrong(e.value.at, nearestFolder(u.Dir), "there is no folder %q", e.value.text)
	case !info.IsDir():
		r.wrong(e.value.at, "\"dir\" must be a folder", "%q is a file", e.value.text)
	}
}

// nearestFolder hints at a folder beside the missing one with a similar name.
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

func readEnv(r *reader, u *Unit, e *entry) {
	if !r.want(e.value, tablesKind, e.key) {
		return
	}
	u.Env, u.OwnEnv = nil, nil
	for _, v := range e.value.table.entries {
		if v.value.kind != textKind && v.value.kind != numberKind {
			r.wrong(v.value.at, "put it in quotes", "variable %s must be a string, not %s", v.key, v.value.kind)
			continue
		}
		// A variable may build on those of the machine and the files, not on its neighbours.
		u.Env = append(u.Env, Variable{Name: v.key, Value: r.expandFrom(r.env.files(u), v.value.text, v.value.at)})
		u.OwnEnv = append(u.OwnEnv, Variable{Name: v.key, Value: v.value.text})
	}
}

var signals = []string{"TERM", "INT", "HUP", "QUIT", "USR1", "USR2", "KILL"}

func readStop(r *reader, u *Unit, e *entry) {
	if !r.want(e.value, tablesKind, e.key) {
		return
	}
	for _, k := range e.value.table.entries {
		switch k.key {
		case "signal":
			if r.want(k.value, textKind, "signal") {
				u.Stop.Signal = signals[r.choice(k.value, "signal", signals...)]
			}
		case "run":
			c := r.command(k.value, "run")
			u.Stop.Run = &c
		case "type":
			if r.want(k.value, textKind, "type") {
				u.Stop.Type = k.value.text
			}
		case "grace":
			u.Stop.Grace = r.duration(k.value, "grace")
		default:
			r.unknown(k, "stop", []string{"signal", "run", "type", "grace"})
		}
	}
	if typed := e.value.table.get("type"); typed != nil && e.value.table.get("run") != nil {
		r.wrong(typed.keyAt, "keep one of them", "\"stop\" has both \"run\" and \"type\"")
	}
}

var whenUp = []string{"tell", "browse", "quiet"}

func readEndpoint(r *reader, u *Unit, e *entry) {
	if !r.want(e.value, tablesKind, e.key) {
		return
	}
	for _, k := range e.value.table.entries {
		switch k.key {
		case "port":
			u.Endpoint.Port = r.port(k.value, k.key)
		case "label":
			if r.want(k.value, textKind, k.key) {
				u.Endpoint.Label = k.value.text
			}
		case "when_up":
			u.Endpoint.WhenUp = whenUp[r.choice(k.value, k.key, whenUp...)]
		default:
			r.unknown(k, "endpoint", []string{"port", "label", "when_up"})
		}
	}
}

func readStart(r *reader, u *Unit, e *entry) {
	u.Manual = r.choice(e.value, e.key, "auto", "manual") == 1
}

func readAfterExit(r *reader, u *Unit, e *entry) {
	u.AfterExit = AfterExit(r.choice(e.value, e.key, "wait", "retry"))
}

func readOverlap(r *reader, u *Unit, e *entry) {
	u.Overlap = Overlap(r.choice(e.value, e.key, "finish", "abandon"))
}

func readReady(r *reader, u *Unit, e *entry) {
	if !r.want(e.value, tablesKind, e.key) {
		return
	}
	u.Ready = Ready{}
	var ways []*entry
	for _, k := range e.value.table.entries {
		switch k.key {
		case "port":
			u.Ready.Port = r.port(k.value, k.key)
		case "http":
			u.Ready.HTTP = r.httpURL(k.value, k.key)
		case "insecure":
			u.Ready.Insecure = r.flag(k)
			continue
		case "line":
			u.Ready.Line = r.expression(k.value, k.key)
		case "file":
			if r.want(k.value, textKind, k.key) {
				u.Ready.File = r.absolute(r.expand(k.value.text, k.value.at))
			}
		case "run":
			c := r.command(k.value, k.key)
			u.Ready.Run = &c
		case "after":
			u.Ready.After = r.duration(k.value, k.key)
		case "within":
			u.Ready.Within = r.duration(k.value, k.key)
			continue
		default:
			r.unknown(k, "ready", []string{"port", "http", "line", "file", "run", "after", "within", "insecure"})
			continue
		}
		ways = append(ways, k)
	}
	if u.Ready.Insecure && !strings.HasPrefix(u.Ready.HTTP, "https:") && len(r.found) == 0 {
		r.wrong(
			e.value.table.get("insecure").keyAt,
			`it is for ready = { http = "https://..." }`,
			"\"insecure\" requires an https URL",
		)
	}
	if len(ways) != 1 && len(r.found) == 0 {
		at := e.keyAt
		if len(ways) > 1 {
			at = ways[1].keyAt
		}
		r.wrong(
			at,
			"keep one of port, http, line, file, run, after",
			"\"ready\" must have one way to tell, not %d",
			len(ways),
		)
	}
}

// readPass reads how the passes of a service are told: "auto", or by expressions.
func readPass(r *reader, u *Unit, e *entry) {
	u.Pass = &Pass{Within: DefaultTakeUp}
	if e.value.kind == textKind {
		r.choice(e.value, e.key, "auto")
		u.Pass.Auto = true
		return
	}
	if !r.want(e.value, tablesKind, e.key) {
		return
	}
	for _, k := range e.value.table.entries {
		switch k.key {
		case "working":
			u.Pass.Working = r.expression(k.value, k.key)
		case "good":
			u.Pass.Good = r.expression(k.value, k.key)
		case "bad":
			u.Pass.Bad = r.expression(k.value, k.key)
		case "within":
			u.Pass.Within = r.duration(k.value, k.key)
		default:
			r.unknown(k, "pass", []string{"working", "good", "bad", "within"})
		}
	}
	phrases := e.value.table.get("working") != nil || e.value.table.get("bad") != nil
	switch {
	case e.value.table.get("good") != nil:
	case phrases:
		r.wrong(e.keyAt, `say which line ends a good one: good = "found 0 errors"`, "\"pass\" has no \"good\"")
	default: // the phrases of the common tools, with a time of its own
		u.Pass.Auto = true
	}
}

func (r *reader) absolute(path string) string {
	if filepath.IsAbs(path) {
		return path
	}
	return filepath.Join(r.plan.Root, path)
}

// steps reads a list of commands, each a text, a list of words, or a table with
// some of these keys.
func (r *reader) steps(e *entry, keys ...string) []Step {
	if !r.want(e.value, listKind, e.key) {
		return nil
	}
	steps := make([]Step, 0, len(e.value.items))
	for _, item := range e.value.items {
		if item.kind != tablesKind {
			steps = append(steps, Step{Run: r.command(item, e.key)})
			continue
		}
		var s Step
		for _, k := range item.table.entries {
			switch {
			case !slices.Contains(keys, k.key):
				r.unknown(k, "a step of "+e.key, keys)
			case k.key == "run":
				s.Run = r.command(k.value, k.key)
			case k.key == "inputs":
				s.Inputs = r.patterns(k)
			default:
				s.Outputs = r.patterns(k)
			}
		}
		if item.table.get("run") == nil {
			r.wrong(item.at, `say what it runs: { run = "..." }`, "a step of %q has no \"run\"", e.key)
		}
		steps = append(steps, s)
	}
	return steps
}

func (r *reader) port(v *value, key string) int {
	text := strings.ReplaceAll(v.text, "_", "")
	switch {
	case v.kind == textKind && envReferences.MatchString(v.text):
		if text = r.expand(v.text, v.at); r.checking {
			return 0
		}
	case !r.want(v, numberKind, key):
		return 0
	}
	n, err := strconv.Atoi(text)
	if err != nil || n < 1 || n > 65535 {
		r.wrong(v.at, "ports go from 1 to 65535", "%s is not a port", v.text)
	}
	return n
}

func (r *reader) httpURL(v *value, key string) string {
	if !r.want(v, textKind, key) {
		return ""
	}
	text := r.expand(v.text, v.at)
	u, err := url.Parse(text)
	if !r.checking && (err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https") {
		r.wrong(v.at, "write it whole, such as http://127.0.0.1:4102/health", "%q is not a web address", v.text)
	}
	return text
}

func (r *reader) expression(v *value, key string) string {
	if !r.want(v, textKind, key) {
		return ""
	}
	if _, err := regexp.Compile(v.text); err != nil {
		r.wrong(v.at, "the syntax is that of Go's package regexp", "%q is not a regular expression: %v", v.text, err)
	} else if v.text == "" {
		r.wrong(v.at, "the syntax is that of Go's package regexp", "%q is empty", key)
	}
	return v.text
}
