package settings

import (
	"errors"
	"io/fs"
	"slices"
	"strings"

	"omnivigil/internal/files"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/plan/variables"
	"omnivigil/internal/text/suggest"
)

// readEnvFiles reads env files and returns their names as written and their variables, those of earlier files last,
// so that they count. A missing file is recorded: the one for a user's secrets is usually missing on a new machine.
func (r *reader) readEnvFiles(e *document.Entry) (names []string, found []plan.Variable) {
	for i, name := range r.Words(e.Value, e.Key) {
		file := r.absolute(name)
		name = r.relative(name)
		names = append(names, name)
		data, err := files.Read(file, files.Sane)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			if !slices.Contains(r.plan.MissingEnvFiles, name) {
				r.plan.MissingEnvFiles = append(r.plan.MissingEnvFiles, name)
			}
			continue
		case err != nil:
			r.Wrong(e.Value.Items[i].At, "", "%q cannot be read: %v", name, files.Reason(err))
			continue
		}
		values, broken := variables.Parse(name, data)
		if broken > 0 { // the line itself may contain secrets
			r.Wrong(e.Value.Items[i].At, "", "%s:%d: expected NAME=value", name, broken)
			continue
		}
		r.plan.InFiles = append(r.plan.InFiles, values...)
		found = append(values, found...)
	}
	return names, found
}

func readUnitEnvFiles(r *reader, u *plan.Unit, e *document.Entry) {
	names, found := r.readEnvFiles(e)
	u.EnvFiles, r.env.Own = append(names, r.envFiles...), found
}

// expand replaces references in a value, with the unit's own variables.
func (r *reader) expand(text string, at document.Place) string {
	return r.expandFrom(r.env.All, text, at)
}

// expandFrom replaces references. A name that is not set and has no default is a problem, not an empty text.
func (r *reader) expandFrom(lookup func(string) (string, bool), text string, at document.Place) string {
	return variables.Expand(text, lookup, func(name string) string {
		if r.checking {
			return "0"
		}
		hint := "set it, or give a default: ${" + name + ":-value}"
		if near := suggest.Name(name, r.env.Names()); near != "" {
			hint = "did you mean ${" + near + "}?"
		}
		r.Wrong(at, hint, "no variable %s is set, neither on this machine nor in %s", name, r.envFileNames())
		return ""
	})
}

func (r *reader) envFileNames() string {
	files := r.plan.EnvFiles
	if r.env.Unit != nil {
		files = slices.Concat(r.env.Unit.EnvFiles, files)
	}
	if len(files) == 0 {
		return "an env file (env_files in [project] names none)"
	}
	return strings.Join(files, ", ")
}
