package settings

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/suggest"
)

// Personal is a user's personal file, for all projects. The zero value is that of a user without one. It is immutable
// after ReadPersonal has returned it.
type Personal struct {
	Theme  string // "dark", "light" or "auto" (also "")
	Notify string // "desktop" (also ""), "bell" or "off"
	// a command with {file}, {line} and {column}; empty: $VISUAL or $EDITOR
	Editor string
	Keys   map[string][]string // by action
	// Leave is how long a project waits for another screen after its last one was lost, such as with its terminal.
	Leave time.Duration
	// Store are the limits of the store of contents.
	Store plan.Limits
	// AssistantsMayType allows coding assistants to type into the terminals of units.
	AssistantsMayType bool
	Shortcuts         map[string]Shortcut
	// Selections are names of units and groups, by the name of the selection in lower case.
	Selections map[string][]string
}

// DefaultLeave is Personal.Leave without a setting.
const DefaultLeave = 30 * time.Second

// Shortcut is a named command for omnivigil on.
type Shortcut struct {
	Run      plan.Command
	Watch    []string
	Ignore   []string
	EnvFiles []string
	Then     []string
	Debounce time.Duration
	Ready    string
	Kind     string // "service", "task", or "" if that is detected
}

// With returns the shortcut's command with the arguments that follow its name: they replace {words}, or are added at
// the end. Without any, {words} is an empty argument.
func (s Shortcut) With(words []string) []string {
	const slot = "{words}"
	if s.Run.Words == nil {
		if strings.Contains(s.Run.Shell, slot) {
			return []string{strings.ReplaceAll(s.Run.Shell, slot, format.Typed(words))}
		}
		return []string{strings.TrimSpace(s.Run.Shell + " " + format.Typed(words))}
	}
	at := slices.Index(s.Run.Words, slot)
	if at < 0 {
		return slices.Concat(s.Run.Words, words)
	}
	if len(words) == 0 {
		words = []string{""}
	}
	return slices.Concat(s.Run.Words[:at], words, s.Run.Words[at+1:])
}

// ReadPersonal reads a user's file; a missing one is like an empty one. Actions are the actions that have keys. If
// the file is invalid the error is a Problems, and its valid part is returned, too.
func ReadPersonal(file string, actions []string) (*Personal, error) {
	p := &Personal{Leave: DefaultLeave, Store: DefaultStore, Keys: map[string][]string{},
		Shortcuts: map[string]Shortcut{}, Selections: map[string][]string{}}
	data, err := files.Read(file, files.Sane)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return p, nil
	case err != nil:
		return p, fmt.Errorf("read your own settings %s: %w", file, files.Reason(err))
	}
	doc := document.Parse(file, data)
	if len(doc.Found) > 0 {
		return p, doc.Problems()
	}
	r := &reader{Document: doc, plan: &plan.Plan{}, places: map[string]*document.Entry{}}
	r.personal(p, actions)
	if len(doc.Found) > 0 {
		return p, doc.Problems()
	}
	return p, nil
}

func (r *reader) personal(p *Personal, actions []string) {
	for _, e := range r.Root.Entries {
		switch e.Key {
		case "theme":
			p.Theme = r.oneOf(e, "auto", "dark", "light")
		case "notify":
			p.Notify = r.oneOf(e, "desktop", "bell", "off")
		case "leave":
			p.Leave = r.duration(e.Value, e.Key)
		case "store":
			r.readLimits(e, &p.Store)
		case "editor":
			if r.want(e.Value, document.TextKind, e.Key) {
				p.Editor = e.Value.Text
			}
		case "assistants_may_type":
			p.AssistantsMayType = r.want(e.Value, document.FlagKind, e.Key) && e.Value.Text == "true"
		case "keys":
			if r.want(e.Value, document.TablesKind, e.Key) {
				r.keys(p, e.Value.Table, actions)
			}
		case "shortcut":
			r.eachTable(e, func(e *document.Entry) { p.Shortcuts[e.Key] = r.shortcut(e) })
		case "selection":
			if r.want(e.Value, document.TablesKind, e.Key) {
				for _, one := range e.Value.Table.Entries {
					p.Selections[strings.ToLower(one.Key)] = r.words(one.Value, one.Key)
				}
			}
		default:
			hint := "known here: theme, notify, editor, leave, store, assistants_may_type, keys, shortcut, selection"
			if slices.Contains([]string{"service", "task", "suite", "project"}, e.Key) {
				hint = "units belong in the project's " + plan.FileName
			}
			r.wrong(e.KeyAt, hint, "unknown key %q in your own settings", e.Key)
		}
	}
}

func (r *reader) oneOf(e *document.Entry, choices ...string) string {
	return choices[r.choice(e.Value, e.Key, choices...)]
}

// keys reads the keys of actions. Whether two have the same is for the screen to check, which knows the keys of all
// actions.
func (r *reader) keys(p *Personal, t *document.Table, actions []string) {
	for _, e := range t.Entries {
		if !slices.Contains(actions, e.Key) {
			hint := "omnivigil check lists them all"
			if near := suggest.Name(e.Key, actions); near != "" {
				hint = fmt.Sprintf("did you mean %q?", near)
			}
			r.wrong(e.KeyAt, hint, "there is no action %q", e.Key)
			continue
		}
		keys := []string{e.Value.Text}
		if e.Value.Kind != document.TextKind {
			keys = r.words(e.Value, e.Key)
		}
		if slices.Contains(keys, "") {
			r.wrong(e.Value.At, `such as "r" or ["r", "f5"]`, "%q has a key without a name", e.Key)
			continue
		}
		p.Keys[e.Key] = keys
	}
}

func (r *reader) shortcut(e *document.Entry) Shortcut {
	var s Shortcut
	for _, k := range e.Value.Table.Entries {
		switch k.Key {
		case "run":
			s.Run = r.plainCommand(k)
		case "watch":
			s.Watch = r.words(k.Value, k.Key)
		case "ignore":
			s.Ignore = r.words(k.Value, k.Key)
		case "env_files":
			s.EnvFiles = r.words(k.Value, k.Key)
		case "then":
			s.Then = r.words(k.Value, k.Key)
		case "debounce":
			s.Debounce = r.duration(k.Value, k.Key)
		case "ready":
			if r.want(k.Value, document.TextKind, k.Key) {
				s.Ready = k.Value.Text
			}
		case "kind":
			s.Kind = r.oneOf(k, "service", "task")
		default:
			r.unknown(
				k,
				"[shortcut."+e.Key+"]",
				[]string{"run", "watch", "ignore", "env_files", "then", "debounce", "ready", "kind"},
			)
		}
	}
	if e.Value.Table.Get("run") == nil {
		r.wrong(e.KeyAt, `say what it runs: run = ["go", "test", "./..."]`, "[shortcut.%s] has no \"run\"", e.Key)
	}
	return s
}

// plainCommand reads a command without variables.
func (r *reader) plainCommand(e *document.Entry) plan.Command {
	switch e.Value.Kind {
	case document.TextKind:
		return plan.Command{Shell: e.Value.Text}
	case document.ListKind:
		if words := r.words(e.Value, e.Key); len(words) > 0 {
			return plan.Command{Words: words}
		}
		r.wrong(e.Value.At, `write a command, such as ["go", "test", "./..."]`, "%q is empty", e.Key)
	default:
		r.wrong(e.Value.At, "", "%q must be a string for the shell or a list of words, not %s", e.Key, e.Value.Kind)
	}
	return plan.Command{}
}
