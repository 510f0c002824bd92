package plan

import (
	"maps"
	"path"
	"slices"
	"strings"
)

// SecretValues returns the values to mask: those of variables with a secret name, of the units, the env files and
// environ ("NAME=value").
func (p *Plan) SecretValues(environ []string) []string {
	var values []string
	add := func(name, value string) {
		if p.IsSecret(name) {
			values = append(values, value)
		}
	}
	for _, u := range p.Units {
		for _, v := range u.Env {
			add(v.Name, v.Value)
		}
	}
	for _, v := range p.InFiles { // the machine may have another value; the file's is secret, too
		add(v.Name, v.Value)
	}
	for _, variable := range environ {
		name, value, _ := strings.Cut(variable, "=")
		add(name, value)
	}
	slices.Sort(values)
	return slices.Compact(values)
}

// FromMachine is the file of a variable that the machine has, which overrides the files.
const FromMachine = "the machine"

// Environment returns what the project gives a unit in addition to the system's variables, ordered by name: its Env,
// and the variables of env files that the machine (os.LookupEnv) has itself, with FromMachine as their file.
func (p *Plan) Environment(u *Unit, machine func(string) (string, bool)) []Variable {
	all := map[string]Variable{}
	for _, v := range p.InFiles {
		if value, ok := machine(v.Name); ok {
			all[v.Name] = Variable{v.Name, value, FromMachine}
		}
	}
	for _, v := range u.Env {
		all[v.Name] = v
	}
	var out []Variable
	for _, name := range slices.Sorted(maps.Keys(all)) {
		out = append(out, all[name])
	}
	return out
}

// IsSecret reports whether the value of a variable with a name must be masked.
func (p *Plan) IsSecret(name string) bool {
	return slices.ContainsFunc(p.Secret, func(pattern string) bool {
		ok, _ := path.Match(pattern, name)
		return ok
	})
}
