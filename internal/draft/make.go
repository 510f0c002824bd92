package draft

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

var (
	cmakeProject = lazyregexp.New(`(?mi)^\s*project\s*\(`)
	cmakeTests   = lazyregexp.New(`(?mi)^\s*(?:enable_testing|add_test|include\s*\(\s*CTest|gtest_discover_tests)\b`)
	cmakeProgram = lazyregexp.New(`(?mi)^\s*add_executable\s*\(\s*([\w.-]+)\s+([^)]*)\)`)
	cServes      = lazyregexp.New(`\blisten\s*\(|\basync_accept\b|acceptor|\bmg_http_listen\b|\bevhttp_bind|uv_listen`)
)

// cSources are what C and C++ programs are built from.
const cSources = "**/*.{c,h,cc,cpp,cxx,hpp,hh,hxx,ipp,inl,in,s,S}"

// readCMake finds the programs and tests of CMake projects.
func readCMake(p *project.Project) {
	for _, dir := range p.Places("CMakeLists.txt") {
		file := path.Join(dir, "CMakeLists.txt")
		text := p.Read(file)
		if !cmakeProject.MatchString(text) {
			p.Leave("%s: it has no project()", file)
			continue
		}
		whole := ""
		p.Files(dir, func(name string) {
			if path.Base(name) == "CMakeLists.txt" {
				whole += p.Read(name) + "\n"
			}
		}, ".txt")
		lists := project.In(dir, "**/CMakeLists.txt", "**/*.cmake")
		out := "build"
		if p.HasSources(path.Join(dir, "build"), ".c", ".cc", ".cpp", ".h", ".cmake", ".txt") &&
			!p.Has(path.Join(dir, "build/CMakeCache.txt")) {
			out = "cmake-build"
		}
		build := p.Add(project.Unit{
			Kind:   plan.Task,
			Name:   project.Named(dir, "build"),
			Dir:    project.AsDir(dir),
			From:   project.AtMatch(file, text, cmakeProject),
			Run:    "cmake --build " + out,
			Watch:  append(project.In(dir, cSources), lists...),
			Ignore: project.In(dir, out+"/**"),
			Setup: &project.Step{
				Run:     "cmake -S . -B " + out,
				Dir:     dir,
				Inputs:  project.In(dir, "CMakeLists.txt"),
				Outputs: project.In(dir, out+"/CMakeCache.txt"),
			},
		})
		for _, m := range cmakeProgram.FindAllStringSubmatch(text, -1) {
			for source := range strings.FieldsSeq(m[2]) {
				source = path.Join(dir, source)
				if code := p.Read(source); cServes.MatchString(code) {
					u := project.Unit{
						Kind: plan.Service,
						Name: m[1],
						Dir:  project.AsDir(dir),
						From: project.AtMatch(source, code, cServes) + ": it listens",
						Run: "./" + path.Join(
							out,
							m[1],
						),
						Manual: project.IsExample(source),
						Guess:  "it keeps running",
					}
					u.Port = project.PortOf(code)
					u.Sure = u.Port != 0
					u.WaitFor(build)
					p.AddService(u, source)
					break
				}
			}
		}
		if cmakeTests.MatchString(whole) {
			u := project.Unit{
				Kind: plan.Suite,
				Name: project.Named(dir, "test"),
				Dir:  project.AsDir(dir),
				From: project.AtMatch(file, text, cmakeTests),
				Run:  "ctest --test-dir " + out + " --output-on-failure",
			}
			u.WaitFor(build)
			p.Add(u)
		}
	}
}

// rule is a target of a makefile.
type rule struct {
	name, at string
	needs    []string
	lines    []string
}

var makeRule = lazyregexp.New(`^([A-Za-z0-9_.][\w./-]*(?:[ \t]+[\w./-]+)*)[ \t]*::?(?:[ \t]+([^=].*)|[ \t]*)$`)

// rulesOf returns the targets of a makefile, in order.
func rulesOf(file, text string) (rules []*rule, phony []string) {
	var now []*rule
	offset := 0
	for line := range strings.Lines(text) {
		begin := offset
		offset += len(line)
		line = strings.TrimRight(line, "\r\n")
		if recipe, is := strings.CutPrefix(line, "\t"); is {
			for _, r := range now {
				r.lines = append(r.lines, strings.TrimLeft(recipe, "@-+ "))
			}
			continue
		}
		m := makeRule.FindStringSubmatch(line)
		if m == nil {
			if strings.TrimSpace(line) != "" && !strings.HasPrefix(line, "#") {
				now = nil
			}
			continue
		}
		needs := strings.Fields(strings.ReplaceAll(m[2], "|", " "))
		if m[1] == ".PHONY" {
			phony = append(phony, needs...)
			continue
		}
		now = nil
		for name := range strings.FieldsSeq(m[1]) {
			if strings.HasPrefix(name, ".") || strings.Contains(name, "%") {
				continue
			}
			r := &rule{name: name, at: project.At(file, text, begin), needs: needs}
			now = append(now, r)
			rules = append(rules, r)
		}
	}
	return rules, phony
}

var (
	makeTests    = lazyregexp.New(`^(?:tests?|check|unittest|unit-test|test-.*|.*-tests?)$`)
	makeServices = lazyregexp.New(`^(?:run|serve|server|dev|start|up|run-.*|serve-.*|dev-.*)$`)
	makeBuilds   = lazyregexp.New(`^(?:all|build|compile|bin|app|release-build|default)$`)
	makeOthers   = lazyregexp.New(`^(?:generate|gen|proto|migrate|assets|css|codegen)$`)
	makeChecks   = lazyregexp.New(`^(?:lint|vet|typecheck|types|check-.*|lint-.*)$`)
	compilesC    = lazyregexp.New(`\$[({](?:CC|CXX|LD|LINK)\b|\b(?:gcc|g\+\+|clang(?:\+\+)?|cc)\b`)
)

// covers are the tools whose work a unit of another ecosystem already does.
var covers = []string{
	"go",
	"npm",
	"pnpm",
	"yarn",
	"npx",
	"cargo",
	"pytest",
	"python",
	"python3",
	"mvn",
	"gradle",
	"cmake",
	"ctest",
	"bundle",
	"composer",
	"tsc",
	"jest",
	"vitest",
	"mocha",
	"uv",
	"poetry",
	"tox",
	"make",
}

// readMake finds targets for which there is no unit yet. What they do is judged by their recipes.
func readMake(p *project.Project) {
	for _, dir := range p.Places("GNUmakefile", "Makefile", "makefile") {
		file := p.FirstIn(dir, "GNUmakefile", "makefile", "Makefile")
		text := p.Read(file)
		if project.IsExample(dir) || strings.Contains(text, "# CMAKE generated file") ||
			strings.Contains(text, "generated by automake") {
			continue
		}
		rules, phony := rulesOf(file, text)
		m := &makefile{Project: p, dir: dir, rules: rules, phony: phony, before: slices.Clone(p.Units)}
		m.sources = project.In(dir, cSources)
		m.isC = p.HasSources(dir, ".c", ".cc", ".cpp", ".cxx")
		for i, r := range rules {
			m.take(r, i == 0)
		}
	}
}

// makefile is a makefile that is being read.
type makefile struct {
	*project.Project
	dir     string
	rules   []*rule
	phony   []string
	before  []project.Unit // what other ecosystems have found
	sources []string
	isC     bool
	build   string // the unit that compiles
}

// commands returns what a target leads to, with what it needs and what it makes.
func (m *makefile) commands(r *rule, seen map[string]bool) []project.Command {
	if seen[r.name] {
		return nil
	}
	seen[r.name] = true
	var all []project.Command
	for _, needed := range r.needs {
		for _, other := range m.rules {
			if other.name == needed {
				all = append(all, m.commands(other, seen)...)
			}
		}
	}
	for _, line := range r.lines {
		for _, c := range project.CommandsOf(makeVariable.ReplaceAllString(line, "_$1")) {
			again := slices.IndexFunc(m.rules, func(o *rule) bool { return o.name == c.First() })
			if (c.Program == "make" || c.Program == "_MAKE") && again >= 0 {
				all = append(all, m.commands(m.rules[again], seen)...)
				continue
			}
			all = append(all, c)
		}
	}
	return all
}

var makeVariable = lazyregexp.New(`\$[({](\w+)[^)}]*[)}]`)

func (m *makefile) take(r *rule, first bool) {
	meant := !strings.ContainsAny(r.name, "./") && len(r.lines) > 0 || slices.Contains(m.phony, r.name) || makeTests.MatchString(r.name) || makeServices.MatchString(r.name) ||
		makeBuilds.MatchString(r.name) || makeChecks.MatchString(r.name)
	if !meant && !first {
		return // a file that another target makes
	}
	all := m.commands(r, map[string]bool{})
	recipe := strings.Join(r.lines, "\n")
	if why := m.Harm(m.dir, all); why != "" {
		m.Leave("%s: the target %q %s", r.at, r.name, why)
		return
	}
	if slices.ContainsFunc(all, func(c project.Command) bool { return c.Has("--watch") }) || r.name == "watch" {
		m.Leave("%s: the target %q repeats its work by itself", r.at, r.name)
		return
	}
	if m.isCovered(r, all) || makeServices.MatchString(r.name) && m.hasService() {
		m.Leave("%s: the target %q: other units do the same", r.at, r.name)
		return
	}
	u := project.Unit{
		Name: project.Named(m.dir, r.name),
		Dir:  project.AsDir(m.dir),
		From: fmt.Sprintf("%s: the target %q", r.at, r.name),
		Run:  "make " + r.name,
	}
	watched := append(slices.Clone(m.sources), project.In(m.dir, path.Base(strings.Split(r.at, ":")[0]), "**/*.mk")...)
	compiles := m.isC && (first || makeBuilds.MatchString(r.name)) &&
		slices.ContainsFunc(
			m.rules,
			func(o *rule) bool { return compilesC.MatchString(strings.Join(o.lines, "\n")) },
		) ||
		m.isC && compilesC.MatchString(recipe)
	switch {
	case makeTests.MatchString(r.name):
		u.Kind = plan.Suite
		if m.isC {
			u.Watch = watched
			if m.build != "" {
				u.Needs = []string{m.build}
			}
		} else {
			u.Manual, u.Guess = true, "it runs only when asked for: say with watch what it depends on"
		}
	case makeServices.MatchString(r.name):
		u.Kind, u.Guess = plan.Service, "it keeps running"
		if m.build != "" {
			u.WaitFor(m.build)
		} else if u.Watch = watched; !m.isC {
			u.Watch, u.Guess = nil, "it keeps running; say with watch what restarts it"
		}
	case compiles:
		if m.build != "" {
			m.Leave("%s: the target %q is a part of the build", r.at, r.name)
			return
		}
		u.Kind, u.Watch = plan.Task, watched
		m.build = m.Add(u)
		return
	case makeChecks.MatchString(r.name), makeBuilds.MatchString(r.name), makeOthers.MatchString(r.name):
		u.Kind, u.Manual = plan.Task, true
		u.Guess = "it runs only when asked for: say with watch what it depends on"
	default:
		m.Leave("%s: what the target %q is for is not known", r.at, r.name)
		return
	}
	m.Add(u)
}

// hasService reports whether other ecosystems have found a service in the directory.
func (m *makefile) hasService() bool {
	return slices.ContainsFunc(m.before, func(u project.Unit) bool {
		return u.Kind == plan.Service && !u.Commented && project.IsWithin(path.Join(u.Dir, "."), m.dir)
	})
}

// isCovered reports whether units of other ecosystems do what a target does.
func (m *makefile) isCovered(r *rule, all []project.Command) bool {
	same := func(u project.Unit) bool { return u.Name == project.Named(m.dir, r.name) && !u.Commented }
	if slices.ContainsFunc(m.before, same) {
		return true
	}
	known := 0
	for _, c := range all {
		if slices.Contains(covers, c.Program) && c.Program != "make" {
			known++
		}
	}
	found := slices.ContainsFunc(m.before, func(u project.Unit) bool {
		return !u.Commented && project.IsWithin(path.Join(u.Dir, "."), m.dir)
	})
	return known > 0 && found && (known == len(all) || makeBuilds.MatchString(r.name))
}
