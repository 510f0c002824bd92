package settings

import (
	"bytes"
	"errors"
	"io/fs"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/joho/godotenv"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/text/lazyregexp"
	"omnivigil/internal/text/suggest"
)

// variables are the known variables while a file is read: the machine's own, which override those of files, and those
// of the env files, of which the first one with a name counts: a unit's own files, then the project's.
type variables struct {
	machine func(string) (string, bool)
	project []plan.Variable // of the project's files
	unit    *plan.Unit      // whose keys are being read
	own     []plan.Variable // of that unit's files
}

// files looks a name up in the files and the machine's environment.
func (v variables) files(u *plan.Unit) func(string) (string, bool) {
	return func(name string) (string, bool) {
		if value, ok := v.machine(name); ok {
			return value, true
		}
		if v.unit == u {
			if value, ok := find(v.own, name); ok {
				return value, true
			}
		}
		return find(v.project, name)
	}
}

// all looks a name up as the unit's process will see it.
func (v variables) all(name string) (string, bool) {
	if v.unit != nil {
		if value, ok := find(v.unit.Env, name); ok {
			return value, true
		}
	}
	return v.files(v.unit)(name)
}

func find(all []plan.Variable, name string) (string, bool) {
	for i := len(all) - 1; i >= 0; i-- {
		if all[i].Name == name {
			return all[i].Value, true
		}
	}
	return "", false
}

// readEnvFiles reads env files and returns their names as written and their variables, those of earlier files last,
// so that they count. A missing file is recorded: the one for a user's secrets is usually missing on a new machine.
func (r *reader) readEnvFiles(e *document.Entry) (names []string, found []plan.Variable) {
	for i, name := range r.words(e.Value, e.Key) {
		names = append(names, name)
		data, err := files.Read(r.absolute(name), files.Sane)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			if !slices.Contains(r.plan.MissingEnvFiles, name) {
				r.plan.MissingEnvFiles = append(r.plan.MissingEnvFiles, name)
			}
			continue
		case err != nil:
			r.wrong(e.Value.Items[i].At, "", "%q cannot be read: %v", name, files.Reason(err))
			continue
		}
		values, err := godotenv.Parse(bytes.NewReader(data))
		if err != nil {
			// The library quotes the file, which may contain secrets.
			r.wrong(e.Value.Items[i].At, "", "%s:%d: expected NAME=value", name, brokenLine(data))
			continue
		}
		var file []plan.Variable
		for _, n := range slices.Sorted(maps.Keys(values)) {
			file = append(file, plan.Variable{Name: n, Value: values[n], File: name})
		}
		r.plan.InFiles = append(r.plan.InFiles, file...)
		found = append(file, found...)
	}
	return names, found
}

// brokenLine returns the number of the first line, from 1, that makes an env file unreadable.
func brokenLine(data []byte) int {
	lines := bytes.SplitAfter(data, []byte("\n"))
	broken := sort.Search(len(lines), func(n int) bool {
		_, err := godotenv.Parse(bytes.NewReader(bytes.Join(lines[:n+1], nil)))
		return err != nil
	})
	return min(broken+1, len(lines))
}

func readUnitEnvFiles(r *reader, u *plan.Unit, e *document.Entry) {
	u.EnvFiles, r.env.own = r.readEnvFiles(e)
}

// usedIn matches the names of variables in a command.
var usedIn = lazyregexp.New(`\$\{?([A-Za-z_][A-Za-z0-9_]*)`)

// receives reports whether a unit receives a variable of an env file: without "uses" all, and otherwise those that it
// lists and those that the unit's own commands name.
func receives(u *plan.Unit, name string) bool {
	if u.Uses == nil {
		return true
	}
	if slices.ContainsFunc(u.Uses, func(pattern string) bool {
		ok, _ := path.Match(pattern, name)
		return ok
	}) {
		return true
	}
	commands := []*plan.Command{&u.Run, u.Ready.Run, u.Stop.Run}
	for _, step := range slices.Concat(u.Setup, u.Prelude) {
		commands = append(commands, &step.Run)
	}
	return slices.ContainsFunc(commands, func(c *plan.Command) bool {
		return c != nil && slices.ContainsFunc(usedIn.FindAllStringSubmatch(strings.Join(c.Argv(), " "), -1),
			func(m []string) bool { return m[1] == name })
	})
}

// fileVariables returns the variables of the env files that a unit receives and the machine does not have, each once,
// ordered by name.
func (v variables) fileVariables(u *plan.Unit) []plan.Variable {
	all := map[string]plan.Variable{}
	for _, file := range slices.Concat(v.project, v.own) {
		all[file.Name] = file
	}
	maps.DeleteFunc(all, func(name string, _ plan.Variable) bool {
		_, has := v.machine(name)
		return has || !receives(u, name)
	})
	out := make([]plan.Variable, 0, len(all))
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, all[name])
	}
	return out
}

// envReferences matches ${NAME} and ${NAME:-default} in a value; $$ is a dollar.
var envReferences = lazyregexp.New(`\$\$|\$\{([A-Za-z_][A-Za-z0-9_]*)(:-([^}]*))?\}`)

// expand replaces references in a value, with the unit's own variables.
func (r *reader) expand(text string, at document.Place) string {
	return r.expandFrom(r.env.all, text, at)
}

// expandFrom replaces references. A name that is not set and has no default is a problem, not an empty text.
func (r *reader) expandFrom(lookup func(string) (string, bool), text string, at document.Place) string {
	return envReferences.ReplaceAllStringFunc(text, func(ref string) string {
		if ref == "$$" {
			return "$"
		}
		m := envReferences.FindStringSubmatch(ref)
		value, ok := lookup(m[1])
		switch {
		case ok && (value != "" || m[2] == ""):
			return value
		case m[2] != "":
			return m[3]
		case r.checking:
			return "0"
		}
		hint := "set it, or give a default: ${" + m[1] + ":-value}"
		if near := suggest.Name(m[1], r.env.names()); near != "" {
			hint = "did you mean ${" + near + "}?"
		}
		r.wrong(at, hint, "no variable %s is set, neither on this machine nor in %s", m[1], r.envFileNames())
		return ""
	})
}

func (v variables) names() []string {
	var names []string
	for _, file := range slices.Concat(v.own, v.project) {
		names = append(names, file.Name)
	}
	if v.unit != nil {
		for _, own := range v.unit.Env {
			names = append(names, own.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

func (r *reader) envFileNames() string {
	files := r.plan.EnvFiles
	if r.env.unit != nil {
		files = slices.Concat(r.env.unit.EnvFiles, files)
	}
	if len(files) == 0 {
		return "an env file (env_files in [project] names none)"
	}
	return strings.Join(files, ", ")
}
