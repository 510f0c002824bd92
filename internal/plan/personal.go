package plan

import (
	"errors"
	"fmt"
	"io/fs"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/files"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/suggest"
)

// Personal is a person's own file, which serves all projects. Its zero value is that of a person
// who has none. It is never changed after ReadPersonal has returned it.
type Personal struct {
	Theme  string              // "dark", "light", or "auto", which "" stands for
	Notify string              // "desktop", "bell" or "off"; "" stands for "desktop"
	Editor string              // a command in which {file}, {line} and {column} stand for a place; empty: $VISUAL or $EDITOR
	Keys   map[string][]string // by the action that they are for
	// AssistantsMayType lets coding assistants type into the terminals of units.
	AssistantsMayType bool
	Shortcuts         map[string]Shortcut
}

// Shortcut is a command for omnivigil on under a name.
type Shortcut struct {
	Run      Command
	Watch    []string
	Ignore   []string
	EnvFiles []string
	Then     []string
	Debounce time.Duration
	Ready    string
	Kind     string // "service", "task", or "" where it is seen
}

// With returns the words of the shortcut's command with what was typed behind its name: in place
// of {words}, or at its end. Without any, {words} is an empty word.
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

// ReadPersonal reads a person's file; one that is not there is like an empty one. Actions are
// those that have keys. Where the file is wrong the error is a Problems, and the part of it that
// is right is returned as well.
func ReadPersonal(file string, actions []string) (*Personal, error) {
	p := &Personal{Keys: map[string][]string{}, Shortcuts: map[string]Shortcut{}}
	data, err := files.Read(file, files.Sane)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		return p, nil
	case err != nil:
		return p, fmt.Errorf("read your own settings %s: %w", file, files.Reason(err))
	}
	doc := parse(file, data)
	if len(doc.found) > 0 {
		return p, doc.problems()
	}
	r := &reader{document: doc, plan: &Plan{}, places: map[string]*entry{}}
	r.personal(p, actions)
	if len(doc.found) > 0 {
		return p, doc.problems()
	}
	return p, nil
}

func (r *reader) personal(p *Personal, actions []string) {
	for _, e := range r.root.entries {
		switch e.key {
		case "theme":
			p.Theme = r.oneOf(e, "auto", "dark", "light")
		case "notify":
			p.Notify = r.oneOf(e, "desktop", "bell", "off")
		case "editor":
			if r.want(e.value, textKind, e.key) {
				p.Editor = e.value.text
			}
		case "assistants_may_type":
			p.AssistantsMayType = r.want(e.value, flagKind, e.key) && e.value.text == "true"
		case "keys":
			if r.want(e.value, tablesKind, e.key) {
				r.keys(p, e.value.table, actions)
			}
		case "shortcut":
			r.eachTable(e, func(e *entry) { p.Shortcuts[e.key] = r.shortcut(e) })
		default:
			hint := "known here: theme, notify, editor, assistants_may_type, keys, shortcut"
			if slices.Contains([]string{"service", "task", "suite", "project"}, e.key) {
				hint = "what a project runs stands in its " + FileName
			}
			r.wrong(e.keyAt, hint, "unknown key %q in your own settings", e.key)
		}
	}
}

func (r *reader) oneOf(e *entry, choices ...string) string {
	return choices[r.choice(e.value, e.key, choices...)]
}

// keys reads which keys actions have. That no two have the same is for the screen to say, which
// knows the keys of all.
func (r *reader) keys(p *Personal, t *table, actions []string) {
	for _, e := range t.entries {
		if !slices.Contains(actions, e.key) {
			hint := "omnivigil check lists them all"
			if near := suggest.Name(e.key, actions); near != "" {
				hint = fmt.Sprintf("did you mean %q?", near)
			}
			r.wrong(e.keyAt, hint, "there is no action %q", e.key)
			continue
		}
		keys := []string{e.value.text}
		if e.value.kind != textKind {
			keys = r.words(e.value, e.key)
		}
		if slices.Contains(keys, "") {
			r.wrong(e.value.at, `such as "r" or ["r", "f5"]`, "%q has a key without a name", e.key)
			continue
		}
		p.Keys[e.key] = keys
	}
}

func (r *reader) shortcut(e *entry) Shortcut {
	var s Shortcut
	for _, k := range e.value.table.entries {
		switch k.key {
		case "run":
			s.Run = r.plainCommand(k)
		case "watch":
			s.Watch = r.words(k.value, k.key)
		case "ignore":
			s.Ignore = r.words(k.value, k.key)
		case "env_files":
			s.EnvFiles = r.words(k.value, k.key)
		case "then":
			s.Then = r.words(k.value, k.key)
		case "debounce":
			s.Debounce = r.duration(k.value, k.key)
		case "ready":
			if r.want(k.value, textKind, k.key) {
				s.Ready = k.value.text
			}
		case "kind":
			s.Kind = r.oneOf(k, "service", "task")
		default:
			r.unknown(
				k,
				"[shortcut."+e.key+"]",
				[]string{"run", "watch", "ignore", "env_files", "then", "debounce", "ready", "kind"},
			)
		}
	}
	if e.value.table.get("run") == nil {
		r.wrong(e.keyAt, `say what it runs: run = ["go", "test", "./..."]`, "[shortcut.%s] has no \"run\"", e.key)
	}
	return s
}

// plainCommand reads a command in which nothing stands for a variable.
func (r *reader) plainCommand(e *entry) Command {
	switch e.value.kind {
	case textKind:
		return Command{Shell: e.value.text}
	case listKind:
		if words := r.words(e.value, e.key); len(words) > 0 {
			return Command{Words: words}
		}
		r.wrong(e.value.at, `write a command, such as ["go", "test", "./..."]`, "%q is empty", e.key)
	default:
		r.wrong(e.value.at, "", "%q must be a string for the shell or a list of words, not %s", e.key, e.value.kind)
	}
	return Command{}
}
