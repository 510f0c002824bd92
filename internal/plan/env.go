package plan

import (
	"bytes"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"regexp"
	"sort"
	"strings"

	"github.com/joho/godotenv"
)

// variables are what is known of the environment while a file is read: the
// machine's own, which win over all, and those of the env files, of which the
// first that has a name wins.
type variables struct {
	machine func(string) (string, bool)
	files   map[string]string
}

func (v variables) lookup(name string) (string, bool) {
	if value, ok := v.machine(name); ok {
		return value, true
	}
	value, ok := v.files[name]
	return value, ok
}

// readEnvFiles reads the files that [project] names. One that is not there is
// left out: the one for a person's own secrets seldom is on a new machine.
func (r *reader) readEnvFiles(e *entry) {
	for i, name := range r.words(e.value, e.key) {
		r.plan.EnvFiles = append(r.plan.EnvFiles, name)
		path := name
		if !filepath.IsAbs(path) {
			path = filepath.Join(r.plan.Root, path)
		}
		data, err := os.ReadFile(path)
		if errors.Is(err, fs.ErrNotExist) {
			continue
		}
		if err != nil {
			r.wrong(e.value.items[i].at, "", "%q cannot be read: %v", name, err)
			continue
		}
		values, err := godotenv.Parse(bytes.NewReader(data))
		if err != nil {
			r.wrong(e.value.items[i].at, "lines are NAME=value", "%q is no env file: %v", name, err)
			continue
		}
		for k, v := range values {
			if _, earlier := r.env.files[k]; !earlier {
				r.env.files[k] = v
			}
		}
	}
}

// fileVariables returns those of the env files that the machine does not have, in
// the order of their names.
func (v variables) fileVariables() []Variable {
	var out []Variable
	for name, value := range v.files {
		if _, has := v.machine(name); !has {
			out = append(out, Variable{name, value})
		}
	}
	sort.Slice(out, func(i, j int) bool { return out[i].Name < out[j].Name })
	return out
}

// envReferences finds ${NAME} and ${NAME:-default} in a value; $$ is a dollar.
var envReferences = regexp.MustCompile(`\$\$|\$\{([A-Za-z_][A-Za-z0-9_]*)(:-([^}]*))?\}`)

// expand replaces references in a unit's env value. A name that nobody has and
// that has no default is a problem, not an empty text.
func (r *reader) expand(v *value) string {
	return envReferences.ReplaceAllStringFunc(v.text, func(ref string) string {
		if ref == "$$" {
			return "$"
		}
		m := envReferences.FindStringSubmatch(ref)
		value, ok := r.env.lookup(m[1])
		switch {
		case ok && (value != "" || m[2] == ""):
			return value
		case m[2] != "":
			return m[3]
		}
		hint := "set it, or give a default: ${" + m[1] + ":-value}"
		if near := Nearest(m[1], r.env.names()); near != "" {
			hint = "did you mean ${" + near + "}?"
		}
		r.wrong(v.at, hint, "no variable %s is set, neither on this machine nor in %s", m[1], r.envFileNames())
		return ""
	})
}

func (v variables) names() []string {
	var names []string
	for name := range v.files {
		names = append(names, name)
	}
	sort.Strings(names)
	return names
}

func (r *reader) envFileNames() string {
	if len(r.plan.EnvFiles) == 0 {
		return "an env file (env_files in [project] names none)"
	}
	return strings.Join(r.plan.EnvFiles, ", ")
}

// SecretValues returns the values that must not be shown: those of variables with
// a secret name, of the units and of environ ("NAME=value").
func (p *Plan) SecretValues(environ []string) []string {
	var values []string
	add := func(name, value string) {
		for _, pattern := range p.Secret {
			if ok, _ := path.Match(pattern, name); ok {
				values = append(values, value)
				return
			}
		}
	}
	for _, u := range p.Units {
		for _, v := range u.Env {
			add(v.Name, v.Value)
		}
	}
	for _, variable := range environ {
		name, value, _ := strings.Cut(variable, "=")
		add(name, value)
	}
	return values
}
