// Package variables determines which variables a unit gets from the machine, from env files and from its own settings,
// and reads env files.
package variables

import (
	"bytes"
	"maps"
	"path"
	"slices"
	"sort"
	"strings"

	"github.com/joho/godotenv"

	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

// Known are the known variables while a unit's settings are read: the machine's own, which override those of files, and
// those of the env files, of which the last one with a name counts.
type Known struct {
	Machine func(string) (string, bool)
	Project []plan.Variable // of the project's files
	Unit    *plan.Unit      // whose keys are being read
	Own     []plan.Variable // of that unit's files, which override the project's
}

// InFiles looks a name up in the files and the machine's environment.
func (k Known) InFiles(name string) (string, bool) {
	if value, ok := k.Machine(name); ok {
		return value, true
	}
	if value, ok := find(k.Own, name); ok {
		return value, true
	}
	return find(k.Project, name)
}

// All looks a name up as the unit's process will see it.
func (k Known) All(name string) (string, bool) {
	if k.Unit != nil {
		if value, ok := find(k.Unit.Env, name); ok {
			return value, true
		}
	}
	return k.InFiles(name)
}

func find(all []plan.Variable, name string) (string, bool) {
	for i := len(all) - 1; i >= 0; i-- {
		if all[i].Name == name {
			return all[i].Value, true
		}
	}
	return "", false
}

// Received returns the variables of the env files that the unit receives and the machine does not have, each once,
// ordered by name.
func (k Known) Received() []plan.Variable {
	all := map[string]plan.Variable{}
	for _, file := range slices.Concat(k.Project, k.Own) {
		all[file.Name] = file
	}
	maps.DeleteFunc(all, func(name string, _ plan.Variable) bool {
		_, has := k.Machine(name)
		return has || !receives(k.Unit, name)
	})
	out := make([]plan.Variable, 0, len(all))
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, all[name])
	}
	return out
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

// Names are the names of all variables that do not come from the machine, for suggestions.
func (k Known) Names() []string {
	var names []string
	for _, file := range slices.Concat(k.Own, k.Project) {
		names = append(names, file.Name)
	}
	if k.Unit != nil {
		for _, own := range k.Unit.Env {
			names = append(names, own.Name)
		}
	}
	slices.Sort(names)
	return slices.Compact(names)
}

// references matches ${NAME} and ${NAME:-default} in a value; $$ is a dollar.
var references = lazyregexp.New(`\$\$|\$\{([A-Za-z_][A-Za-z0-9_]*)(:-([^}]*))?\}`)

// Refers reports whether Expand replaces something in a text.
func Refers(text string) bool { return references.MatchString(text) }

// Expand replaces ${NAME} and ${NAME:-default} in a text, and $$ by a dollar. Missing returns what replaces a name that
// is not set and has no default.
func Expand(text string, lookup func(string) (string, bool), missing func(name string) string) string {
	return references.ReplaceAllStringFunc(text, func(ref string) string {
		if ref == "$$" {
			return "$"
		}
		m := references.FindStringSubmatch(ref)
		value, ok := lookup(m[1])
		switch {
		case ok && (value != "" || m[2] == ""):
			return value
		case m[2] != "":
			return m[3]
		}
		return missing(m[1])
	})
}

// Parse reads the contents of an env file and returns its variables, ordered by name. If it cannot be read, line is the
// number of the first line that prevents it, from 1, and otherwise 0.
func Parse(file string, data []byte) (all []plan.Variable, line int) {
	values, err := godotenv.Parse(bytes.NewReader(data))
	if err != nil {
		return nil, brokenLine(data)
	}
	for _, name := range slices.Sorted(maps.Keys(values)) {
		all = append(all, plan.Variable{Name: name, Value: values[name], File: file})
	}
	return all, 0
}

func brokenLine(data []byte) int {
	lines := bytes.SplitAfter(data, []byte("\n"))
	broken := sort.Search(len(lines), func(n int) bool {
		_, err := godotenv.Parse(bytes.NewReader(bytes.Join(lines[:n+1], nil)))
		return err != nil
	})
	return min(broken+1, len(lines))
}
