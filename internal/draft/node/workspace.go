// Package node finds the packages, scripts and workspaces of Node projects, for a draft of their settings. What a
// script is for is judged by its commands and by those of the scripts that it starts. Start reading at Read.
package node

import (
	"encoding/json"
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/text/lazyregexp"
)

// manifest is the part of a package.json that is read.
type manifest struct {
	Name         string            `json:"name"`
	Main         string            `json:"main"`
	Manager      string            `json:"packageManager"`
	Scripts      map[string]string `json:"scripts"`
	Dependencies map[string]string `json:"dependencies"`
	Development  map[string]string `json:"devDependencies"`
	Peers        map[string]string `json:"peerDependencies"`
	Workspaces   json.RawMessage   `json:"workspaces"`
}

// dependsOn reports whether a package depends on another, to run or to be built.
func (m manifest) dependsOn(name string) bool {
	_, runs := m.Dependencies[name]
	_, builds := m.Development[name]
	_, peer := m.Peers[name]
	return name != "" && (runs || builds || peer)
}

// manager is a package manager.
type manager struct{ name, lock, install string }

// managers are recognized by their lock files; the last one is the default.
var managers = []manager{
	{"pnpm", "pnpm-lock.yaml", "pnpm install --frozen-lockfile"},
	{"yarn", "yarn.lock", "yarn install --immutable"},
	{"bun", "bun.lock", "bun install --frozen-lockfile"},
	{"bun", "bun.lockb", "bun install --frozen-lockfile"},
	{"npm", "package-lock.json", "npm ci"},
	{"npm", "npm-shrinkwrap.json", "npm ci"},
	{"npm", "package.json", "npm install"},
}

// workspace reads the packages of one workspace, or a single package.
type workspace struct {
	*project.Project
	tool     manager
	setup    *project.Step
	packages []*member
}

// member is a package of a workspace.
type member struct {
	manifest
	dir, file, text string
	holds           bool // other packages of the workspace
	scripts         map[string]*script
	order           []*script // by name
	builds          []string  // the units that compile it
	outputs         []string  // patterns of what they write
	lock            string    // the lock file that the installation creates; empty: it exists
}

// Read finds the scripts of packages and of their workspaces.
func Read(p *project.Project) {
	var known []string
	for _, dir := range p.Shallow {
		w := &workspace{Project: p}
		if !p.Has(path.Join(dir, "package.json")) || slices.Contains(known, dir) {
			continue
		}
		m, ok := w.manifest(path.Join(dir, "package.json"))
		if !ok {
			continue
		}
		// A package two levels below another one, and not part of its workspace, is a project of its own only if it is
		// installed on its own.
		_, locked := w.lockedBy(dir, m)
		within := slices.ContainsFunc(known, func(k string) bool { return project.IsWithin(dir, k) })
		if within && !locked && strings.Contains(dir, "/") {
			continue
		}
		w.open(dir, m)
		for _, pkg := range w.packages {
			known = append(known, pkg.dir)
		}
		w.draft()
	}
}

func (w *workspace) manifest(name string) (m manifest, ok bool) {
	text := w.Read(name)
	if text == "" {
		return m, false
	}
	if err := json.Unmarshal([]byte(text), &m); err != nil {
		w.Leave("%s: it could not be read: %v", name, err)
		return m, false
	}
	return m, true
}

// lockedBy returns the package manager of a directory, and whether there is a lock file.
func (w *workspace) lockedBy(dir string, m manifest) (manager, bool) {
	for _, t := range managers[:len(managers)-1] {
		if !w.Has(path.Join(dir, t.lock)) {
			continue
		}
		if t.name == "yarn" && strings.Contains(w.Read(path.Join(dir, t.lock)), "# yarn lockfile v1") {
			t.install = "yarn install --frozen-lockfile"
		}
		return t, true
	}
	t := managers[len(managers)-1]
	if name, _, _ := strings.Cut(m.Manager, "@"); name != "" &&
		slices.ContainsFunc(managers, func(o manager) bool { return o.name == name }) {
		t = manager{name, "package.json", name + " install"}
	}
	return t, false
}

// open reads a package and those of its workspace.
func (w *workspace) open(dir string, m manifest) {
	w.tool, _ = w.lockedBy(dir, m)
	members := w.members(dir, m)
	root := w.opened(dir, m)
	root.holds = len(members) > 0
	w.packages = []*member{root}
	for _, member := range members {
		if m, ok := w.manifest(path.Join(member, "package.json")); ok {
			w.packages = append(w.packages, w.opened(member, m))
		}
	}
	if slices.ContainsFunc(
		w.packages,
		func(p *member) bool { return len(p.Dependencies)+len(p.Development) > 0 },
	) {
		w.setup = &project.Step{
			Run:     w.tool.install,
			Dir:     dir,
			Inputs:  project.In(dir, w.tool.lock),
			Outputs: project.In(dir, "node_modules"),
		}
		if w.tool.lock == "package.json" {
			made := slices.IndexFunc(managers, func(o manager) bool { return o.name == w.tool.name })
			root.lock = path.Join(dir, managers[made].lock)
			for _, p := range w.packages[1:] {
				w.setup.Inputs = append(w.setup.Inputs, project.In(p.dir, "package.json")...)
			}
		}
		if w.Has(path.Join(dir, ".pnp.cjs")) ||
			strings.Contains(w.Read(path.Join(dir, ".yarnrc.yml")), "nodeLinker: pnp") {
			w.setup.Outputs = project.In(dir, ".pnp.cjs")
		}
	}
}

func (w *workspace) opened(dir string, m manifest) *member {
	p := &member{manifest: m, dir: dir, file: path.Join(dir, "package.json"), scripts: map[string]*script{}}
	p.text = w.Read(p.file)
	from := max(strings.Index(p.text, `"scripts"`), 0)
	for name, text := range m.Scripts {
		key, _ := json.Marshal(name)
		offset := strings.Index(p.text[from:], string(key))
		if offset >= 0 {
			offset += from
		}
		s := &script{name: name, text: text, at: project.At(p.file, p.text, offset), commands: project.CommandsOf(text)}
		p.scripts[name] = s
		p.order = append(p.order, s)
	}
	if len(m.Scripts) == 0 && len(w.packages) == 0 && path.Dir(p.file) == "." {
		w.Leave("%s: it has no scripts", p.file)
	}
	slices.SortFunc(p.order, func(a, b *script) int { return strings.Compare(a.name, b.name) })
	for _, s := range p.order {
		w.hooked(p, s)
	}
	for _, s := range p.order {
		s.judgement = w.judged(p, s, nil)
	}
	return p
}

var packagesList = lazyregexp.New(`(?m)^\s*-\s*['"]?([^'"\s#]+)`)

// members returns the directories of the other packages of a workspace.
func (w *workspace) members(dir string, m manifest) []string {
	var patterns []string
	if json.Unmarshal(m.Workspaces, &patterns) != nil {
		var table struct{ Packages []string }
		json.Unmarshal(m.Workspaces, &table)
		patterns = table.Packages
	}
	list, _, _ := strings.Cut(w.Read(path.Join(dir, "pnpm-workspace.yaml")), "\ncatalog")
	for _, match := range packagesList.FindAllStringSubmatch(list, -1) {
		patterns = append(patterns, match[1])
	}
	var dirs, without []string
	for _, pattern := range patterns {
		to := &dirs
		if strings.HasPrefix(pattern, "!") {
			pattern, to = pattern[1:], &without
		}
		for _, found := range w.globbed(dir, pattern) {
			if !slices.Contains(*to, found) && found != dir {
				*to = append(*to, found)
			}
		}
	}
	dirs = slices.DeleteFunc(dirs, func(d string) bool { return slices.Contains(without, d) })
	slices.Sort(dirs)
	return dirs
}

// globbed returns the directories of packages that a pattern of a workspace matches, at any depth.
func (w *workspace) globbed(dir, pattern string) []string {
	var found []string
	take := func(glob string) {
		for _, file := range w.GlobFiles(path.Join(dir, glob, "package.json")) {
			if !slices.Contains(strings.Split(file, "/"), "node_modules") {
				found = append(found, path.Dir(file))
			}
		}
	}
	before, after, deep := strings.Cut(strings.TrimSuffix(pattern, "/"), "**")
	if !deep {
		take(pattern)
		return found
	}
	const deepest = 5
	for depth := range deepest {
		take(before + strings.Repeat("/*", depth) + after)
	}
	return found
}

// judged tells what a script is for, by all commands that it leads to.
func (w *workspace) judged(p *member, s *script, through []string) judgement {
	if slices.Contains(through, s.name) {
		return judgement{}
	}
	through = append(through, s.name)
	switch why := w.Harm(p.dir, s.commands); why {
	case "":
	case project.OnlyCleans:
		return judgement{role: asCleaner, why: why}
	default:
		return judgement{role: asHarm, why: why}
	}
	var parts []judgement
	var calls []string
	side := strings.Contains(s.text, " & ")
	for _, c := range s.commands {
		if elsewhere(c) || slices.ContainsFunc(c.Args, startsElsewhere) {
			return judgement{role: asCombination, why: "starts scripts of other packages"}
		}
		called := p.called(c)
		if len(called) == 0 {
			parts = append(parts, w.judgedAlone(p, s, c))
			continue
		}
		if why := w.withMore(p, c, called[0]); why != "" {
			return judgement{role: asHarm, why: why}
		}
		if referred(c) == "" && c.Has(again...) {
			return judgement{role: asCombination, why: "repeats other scripts by itself"}
		}
		side = side || referred(c) == "" // by a program that runs several
		for _, name := range called {
			of := w.judged(p, p.scripts[name], through)
			calls = append(append(calls, name), of.calls...)
			parts = append(parts, of)
		}
	}
	j := joined(parts, side)
	j.calls = calls
	return j
}

// judgedAlone is judge with what the package's files say.
func (w *workspace) judgedAlone(p *member, s *script, c project.Command) judgement {
	j := judge(c)
	switch {
	case j.role == asServer && slices.Contains(interpreters, c.Program) && !isServiceName(s.name) &&
		!keepsRunning.MatchString(w.source(p, j.entry)):
		j.role = asUnknown // it ends
	case j.role == asUnknown && !isProgram(c.Program) && isServiceName(s.name):
		j.role, j.maybe = asServer, true
		if c.Has(again...) {
			j.once = c.Without(again...)
		}
	case c.Program == "tsc" && len(j.makes) == 0 && checkNames.MatchString(s.name):
		if j.role == asRecompiler {
			j.once = c.Without(again...)
		}
		j.role = asCheck
	case c.Program == "tsc" && (j.role == asCompiler || j.role == asRecompiler) && len(j.makes) == 0:
		var emits bool
		if j.makes, emits = w.tscOutputs(p, c); !emits {
			if j.role == asRecompiler {
				j.once = c.Without(again...)
			}
			j.role = asCheck
		}
	}
	if (j.role == asCompiler || j.role == asRecompiler) && len(j.makes) == 0 {
		dir, _, within := strings.Cut(path.Clean(p.Main), "/")
		if within && dir != "src" && dir != "lib" && dir != ".." {
			j.makes = []string{dir}
		}
	}
	return j
}

// withMore tells what harm a script does with the arguments that another one adds; empty: none.
func (w *workspace) withMore(p *member, c project.Command, called string) string {
	i := slices.Index(c.Args, called)
	of := p.scripts[called].commands
	if i < 0 || len(of) == 0 || c.Program == "npm" && !slices.Contains(c.Args, "--") {
		return ""
	}
	last := of[len(of)-1]
	last.Args = append(slices.Clone(last.Args), c.Args[i+1:]...)
	if c.Has(again...) {
		return "repeats the script " + called + " by itself"
	}
	return w.Harm(p.dir, []project.Command{last})
}

// called returns the scripts of the same package that a command starts: by a package manager, or as arguments of a
// program that runs several of them.
func (p *member) called(c project.Command) (names []string) {
	add := func(name string) {
		if p.scripts[name] != nil && !slices.Contains(names, name) {
			names = append(names, name)
		}
		if stem, is := strings.CutSuffix(name, "*"); is {
			for _, s := range p.order {
				if strings.HasPrefix(s.name, stem) && !slices.Contains(names, s.name) {
					names = append(names, s.name)
				}
			}
		}
	}
	if name := referred(c); name != "" {
		add(name)
		return names
	}
	if isProgram(c.Program) || strings.HasPrefix(c.Program, "./") {
		return nil
	}
	// Bare names are scripts only if all are: programs have such arguments of their own.
	bare := !slices.ContainsFunc(c.Args, func(arg string) bool {
		return !strings.HasPrefix(arg, "-") && p.scripts[arg] == nil && !strings.HasSuffix(arg, "*")
	})
	for _, arg := range c.Args {
		name, is := strings.CutPrefix(arg, "npm:")
		if is || bare {
			add(name)
			continue
		}
		if strings.Contains(arg, " ") {
			for _, inner := range project.CommandsOf(arg) {
				add(referred(inner))
			}
		}
	}
	return names
}

// ends reports whether what a script starts ends by itself.
func (j judgement) ends() bool {
	return j.role != asRecompiler && j.role != asServer && j.role != asReloader && j.role != asCombination
}

// joined is what commands are for that run one after the other, or side by side.
func joined(parts []judgement, side bool) (j judgement) {
	if len(parts) == 1 {
		return parts[0]
	}
	parts = slices.DeleteFunc(slices.Clone(parts), func(p judgement) bool { return p.role == asCleaner })
	for i, part := range parts {
		last := i == len(parts)-1
		switch {
		case part.role == asHarm, part.role == asCombination:
			return part
		case !part.ends() && (side || !last || part.role != asServer):
			return judgement{role: asCombination, why: "starts several programs, one of which keeps running"}
		case len(part.once) > 0:
			return judgement{role: asCombination, why: "does not end by itself"}
		case part.role == asServer, part.role == asTests, part.role == asCompiler && j.role != asTests,
			part.role == asCheck && j.role == asUnknown:
			j.role, j.main, j.maybe = part.role, part.main, part.maybe
		}
		if part.entry != "" {
			j.entry = part.entry
		}
		j.makes = append(j.makes, part.makes...)
		j.slow = j.slow || part.slow
	}
	return j
}
