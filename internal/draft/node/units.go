package node

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/text/format"
)

// lifecycle are the scripts that package managers run by themselves.
var lifecycle = []string{
	"install", "preinstall", "postinstall", "prepare", "prepublish", "prepublishOnly", "prepack", "postpack",
	"preversion", "version", "postversion", "dependencies",
}

// isHook reports whether a package manager runs a script by itself: at installation, or before or after another one.
func (p *member) isHook(s *script) bool {
	for _, before := range []string{"pre", "post"} {
		if of, is := strings.CutPrefix(s.name, before); is && p.scripts[of] != nil {
			return true
		}
	}
	return slices.Contains(lifecycle, s.name)
}

// hooked adds what package managers run before and after a script, so that it is judged, too. With npm, a script can do
// without if nothing of that compiles.
func (w *workspace) hooked(p *member, s *script) {
	before, after := p.scripts["pre"+s.name], p.scripts["post"+s.name]
	if before == nil && after == nil {
		return
	}
	compiled := before != nil && w.judged(p, before, nil).role == asCompiler
	if s.alone = w.tool.name == "npm" && !compiled; s.alone {
		return
	}
	if before != nil {
		s.text = before.text + " && " + s.text
		s.commands = append(slices.Clone(before.commands), s.commands...)
	}
	if after != nil {
		s.text += " && " + after.text
		s.commands = append(slices.Clone(s.commands), after.commands...)
	}
}

// draft adds the units of all packages: compilers first, because the others refer to them.
func (w *workspace) draft() {
	if w.setup != nil {
		w.Note(
			"%s: %s installs the packages once, for all units",
			path.Join(w.packages[0].dir, w.tool.lock),
			w.tool.name,
		)
	}
	for _, p := range w.packages {
		w.compilers(p)
	}
	for _, p := range w.packages {
		w.services(p)
		w.tests(p)
		w.checks(p)
		w.rest(p)
	}
	for _, p := range w.packages {
		w.dependOnPackages(p)
	}
}

// unit returns a unit for a script.
func (w *workspace) unit(p *member, s *script) project.Unit {
	u := project.Unit{
		From: fmt.Sprintf("%s: the script %q: %s", s.at, s.name, s.text), Dir: project.AsDir(p.dir), Setup: w.setup,
		Run: w.tool.name + " run " + s.name, Manual: project.IsExample(p.dir),
	}
	if p.dir != "." && w.HasEnvFile(p.dir) {
		u.EnvFiles = []string{path.Join(p.dir, ".env")}
	}
	if s.alone {
		u.Run += " --ignore-scripts" // without pre and post scripts
	}
	if len(s.once) > 0 {
		u.Run = w.inPackage(s.main.Env, s.once)
		u.Guess = "without what makes it repeat its work by itself"
	}
	return u
}

// inPackage is the command that runs a tool of a package directly.
func (w *workspace) inPackage(env, words []string) string {
	direct := map[string]string{
		"npm": "npx --no-install", "pnpm": "pnpm exec", "yarn": "yarn run", "bun": "bunx",
	}[w.tool.name]
	line := format.Typed(words)
	if !slices.Contains([]string{"node", "bun", "deno"}, words[0]) {
		line = direct + " " + line
	}
	for _, variable := range slices.Backward(env) {
		name, value, _ := strings.Cut(variable, "=")
		line = name + "=" + format.Quoted(value) + " " + line
	}
	return line
}

// sources are patterns of what a script reads.
func (p *member) sources(of []string) []string {
	if len(of) == 0 {
		of = []string{webSources}
	}
	return project.In(p.dir, of...)
}

// made are patterns of what is no source in a package.
func (p *member) made(outputs []string) []string {
	made := project.In(p.dir, "node_modules/**", "coverage/**", "**/.*/**")
	if p.lock != "" { // the installation creates it
		made = append(made, project.In(".", p.lock)...)
	}
	for _, out := range slices.Concat(outputs, p.outputs) {
		if !slices.Contains(made, out) {
			made = append(made, out)
		}
	}
	return made
}

// outputs returns the patterns and paths of what a script writes, relative to the project.
func (w *workspace) outputs(p *member, s *script) (patterns, paths []string) {
	for _, m := range s.makes {
		at := path.Join(p.dir, m)
		if slices.Contains(paths, at) {
			continue
		}
		paths = append(paths, at)
		if path.Ext(m) == "" || strings.HasPrefix(m, ".") {
			patterns = append(patterns, project.In(p.dir, m+"/**")...)
		} else {
			patterns = append(patterns, project.In(p.dir, m)...)
		}
	}
	return patterns, paths
}

// rest records why the other scripts are left out.
func (w *workspace) rest(p *member) {
	var others []string
	for _, s := range p.order {
		switch {
		case p.isHook(s), strings.Contains(s.text, "no test specified"):
		case s.role == asHarm, s.role == asCleaner, s.role == asCombination && s.why != "":
			w.Leave("%s: the script %q %s", s.at, s.name, s.why)
		case s.role == asCombination:
			w.Leave("%s: the script %q starts %s", s.at, s.name, strings.Join(s.calls, ", "))
		case s.role == asUnknown && s.name != "test" && !slices.Contains(usualServices, s.name):
			others = append(others, s.name)
		}
	}
	if len(others) > 0 {
		w.Leave("%s: what these scripts are for is not known: %s", p.file, strings.Join(others, ", "))
	}
}

// dependOnPackages makes the units of a package wait for the packages of the workspace that it uses to be compiled,
// and watch those that are used as they are.
func (w *workspace) dependOnPackages(p *member) {
	for _, other := range w.packages {
		if other == p || !p.dependsOn(other.Name) {
			continue
		}
		for i := range w.Units {
			u := &w.Units[i]
			if u.Commented || u.Setup != w.setup || u.Dir != project.AsDir(p.dir) ||
				!strings.HasPrefix(u.From, p.file+":") {
				continue
			}
			if len(other.builds) == 0 {
				if len(u.Watch) > 0 {
					u.Watch = append(u.Watch, other.sources(nil)...)
				}
				continue
			}
			for _, build := range other.builds {
				if u.Pass || len(u.Watch) == 0 {
					u.Needs = append(u.Needs, build) // it picks up the result by itself
				} else {
					u.WaitFor(build)
				}
			}
		}
	}
}

// isCalledBy reports whether another script of a role runs this one.
func (p *member) isCalledBy(s *script, by role) bool {
	return slices.ContainsFunc(p.order, func(other *script) bool {
		return other != s && other.role == by && slices.Contains(other.calls, s.name) && !p.isHook(other)
	})
}

// membersHave reports whether other packages of the workspace have a script of that name.
func (w *workspace) membersHave(p *member, name string) bool {
	return slices.ContainsFunc(w.packages, func(m *member) bool { return m != p && m.scripts[name] != nil })
}
