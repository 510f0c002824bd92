// Package preferences reads a user's personal file, which applies to all projects. Start reading at Read.
package preferences

import (
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/values"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/suggest"
)

// Preferences are a user's personal file, for all projects. The zero value is that of a user without one. It is
// immutable after Read has returned it.
type Preferences struct {
	Theme  string // "dark", "light" or "auto" (also "")
	Notify string // "desktop" (also ""), "bell" or "off"
	// a command with {file}, {line} and {column}; empty: $VISUAL or $EDITOR
	Editor string
	Keys   map[string][]string // by action
	// Leave is how long a project waits for another screen after its last one was lost, such as with its terminal.
	Leave time.Duration
	// Store are the limits of the store of contents.
	Store plan.Limits
	// Traces is the address of a receiver of OpenTelemetry traces; empty: none.
	Traces string
	// AssistantsMayType allows coding assistants to type into the terminals of units.
	AssistantsMayType bool
	Shortcuts         map[string]Shortcut
	// Selections are names of units and groups, by the name of the selection in lower case.
	Selections map[string][]string
}

// DefaultStore are the limits of the store of contents, without a setting.
var DefaultStore = plan.Limits{Size: 4e9, Age: 30 * values.Day}

// DefaultLeave is Preferences.Leave without a setting.
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

// Read reads a user's file; a missing one is like an empty one. Actions are the actions that have keys. If
// the file is invalid the error is a Problems, and its valid part is returned, too.
func Read(file string, actions []string) (*Preferences, error) {
	p := &Preferences{Leave: DefaultLeave, Store: DefaultStore, Keys: map[string][]string{},
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
	r := &reader{&values.Reader{Document: doc}}
	r.personal(p, actions)
	if len(doc.Found) > 0 {
		return p, doc.Problems()
	}
	return p, nil
}

// reader reads a personal file.
type reader struct{ *values.Reader }

func (r *reader) personal(p *Preferences, actions []string) {
	for _, e := range r.Root.Entries {
		switch e.Key {
		case "theme":
			p.Theme = r.OneOf(e, "auto", "dark", "light")
		case "notify":
			p.Notify = r.OneOf(e, "desktop", "bell", "off")
		case "leave":
			p.Leave = r.Duration(e.Value, e.Key)
		case "store":
			r.Limits(e, &p.Store)
		case "traces":
			p.Traces = r.address(e)
		case "editor":
			if r.Want(e.Value, document.TextKind, e.Key) {
				p.Editor = e.Value.Text
			}
		case "assistants_may_type":
			p.AssistantsMayType = r.Want(e.Value, document.FlagKind, e.Key) && e.Value.Text == "true"
		case "keys":
			if r.Want(e.Value, document.TablesKind, e.Key) {
				r.keys(p, e.Value.Table, actions)
			}
		case "shortcut":
			r.EachTable(e, func(e *document.Entry) { p.Shortcuts[e.Key] = r.shortcut(e) })
		case "selection":
			if r.Want(e.Value, document.TablesKind, e.Key) {
				for _, one := range e.Value.Table.Entries {
					p.Selections[strings.ToLower(one.Key)] = r.Words(one.Value, one.Key)
				}
			}
		default:
			hint := "known here: theme, notify, editor, leave, store, traces, assistants_may_type, keys, shortcut, " +
				"selection"
			if slices.Contains([]string{"service", "task", "suite", "project"}, e.Key) {
				hint = "units belong in the project's " + plan.FileName
			}
			r.Wrong(e.KeyAt, hint, "unknown key %q in your own settings", e.Key)
		}
	}
}

// address reads the address of a receiver of traces.
func (r *reader) address(e *document.Entry) string {
	if !r.Want(e.Value, document.TextKind, e.Key) {
		return ""
	}
	at, err := url.Parse(e.Value.Text)
	if err != nil || at.Host == "" || at.Scheme != "http" && at.Scheme != "https" {
		r.Wrong(e.Value.At, `such as "http://127.0.0.1:4318"`, "%q is not an address of http", e.Value.Text)
	}
	return e.Value.Text
}

// keys reads the keys of actions. Whether two have the same is for the screen to check, which knows the keys of all
// actions.
func (r *reader) keys(p *Preferences, t *document.Table, actions []string) {
	for _, e := range t.Entries {
		if !slices.Contains(actions, e.Key) {
			hint := "omnivigil check lists them all"
			if near := suggest.Name(e.Key, actions); near != "" {
				hint = fmt.Sprintf("did you mean %q?", near)
			}
			r.Wrong(e.KeyAt, hint, "there is no action %q", e.Key)
			continue
		}
		keys := []string{e.Value.Text}
		if e.Value.Kind != document.TextKind {
			keys = r.Words(e.Value, e.Key)
		}
		if slices.Contains(keys, "") {
			r.Wrong(e.Value.At, `such as "r" or ["r", "f5"]`, "%q has a key without a name", e.Key)
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
			s.Run = r.PlainCommand(k)
		case "watch":
			s.Watch = r.Words(k.Value, k.Key)
		case "ignore":
			s.Ignore = r.Words(k.Value, k.Key)
		case "env_files":
			s.EnvFiles = r.Words(k.Value, k.Key)
		case "then":
			s.Then = r.Words(k.Value, k.Key)
		case "debounce":
			s.Debounce = r.Duration(k.Value, k.Key)
		case "ready":
			if r.Want(k.Value, document.TextKind, k.Key) {
				s.Ready = k.Value.Text
			}
		case "kind":
			s.Kind = r.OneOf(k, "service", "task")
		default:
			r.Unknown(
				k,
				"[shortcut."+e.Key+"]",
				[]string{"run", "watch", "ignore", "env_files", "then", "debounce", "ready", "kind"},
			)
		}
	}
	if e.Value.Table.Get("run") == nil {
		r.Wrong(e.KeyAt, `say what it runs: run = ["go", "test", "./..."]`, "[shortcut.%s] has no \"run\"", e.Key)
	}
	return s
}
