package node

import (
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

var buildNames = lazyregexp.New(
	`(?i)build|compil|bundle|tsc|css|sass|scss|styles?|^[jt]s$|transpile|webpack|rollup|esbuild|vite|assets|` +
		`^dist$|client|server|watch|dev`,
)

var otherBuilds = lazyregexp.New(
	`(?i)test|update|docs?\b|bench|release|analy|profile|size|stats|storybook|demo|example|prod$`,
)

var outDir = lazyregexp.New(`(?m)^[^/\n]*"outDir"\s*:\s*"([^"]+)"`)
var noEmit = lazyregexp.New(`(?m)^[^/\n]*"noEmit"\s*:\s*true`)
var extends = lazyregexp.New(`(?m)^[^/\n]*"extends"\s*:\s*"(\.[^"]+)"`)

// tscOutputs returns where the TypeScript compiler writes (empty: next to the sources), from its settings, and whether
// it writes at all.
func (w *workspace) tscOutputs(p *member, c project.Command) (made []string, emits bool) {
	if c.Has("--outDir", "--outFile") {
		return outputsOf(c, tool{}), true
	}
	config := c.Value("-p", "--project")
	if config == "" && c.Has("-b", "--build") {
		config = c.First()
	}
	if config == "" {
		config = "tsconfig.json"
	}
	if path.Ext(config) != ".json" {
		config = path.Join(config, "tsconfig.json")
	}
	for range 4 {
		text := w.Read(path.Join(p.dir, config))
		if m := outDir.FindStringSubmatch(text); m != nil {
			out := path.Clean(path.Join(path.Dir(config), m[1]))
			if out != "." && !strings.HasPrefix(out, "..") {
				return []string{out}, true
			}
			return nil, true
		}
		if noEmit.MatchString(text) {
			return nil, false
		}
		m := extends.FindStringSubmatch(text)
		if m == nil {
			return nil, true
		}
		config = path.Join(path.Dir(config), m[1])
		if path.Ext(config) != ".json" {
			config += ".json"
		}
	}
	return nil, true
}

// compilers adds the scripts of a package that compile. If one does so once and another one again and again, only one
// of them is needed.
func (w *workspace) compilers(p *member) {
	var once, again []*script
	for _, s := range p.order {
		switch {
		case p.isHook(s) || s.name != "build" && p.isCalledBy(s, asCompiler):
		case s.role != asCompiler && s.role != asRecompiler:
		case otherBuilds.MatchString(s.name) || !buildNames.MatchString(s.name):
			w.Leave("%s: the script %q: a build for another purpose", s.at, s.name)
		case s.role == asCompiler && len(s.once) == 0:
			once = append(once, s)
		default:
			again = append(again, s)
		}
	}
	byTool := func(all []*script, tool string) *script {
		for _, s := range all {
			if s.main.Program == tool {
				return s
			}
		}
		return nil
	}
	for _, s := range again {
		if plain := byTool(once, s.main.Program); plain != nil && (len(plain.commands) > 1 || s.role == asCompiler) {
			w.Leave("%s: the script %q does the work of %q", s.at, s.name, plain.name)
			continue
		}
		w.addCompiler(p, s)
	}
	for _, s := range once {
		if other := byTool(again, s.main.Program); other != nil && len(s.commands) == 1 && other.role == asRecompiler {
			w.Leave("%s: the script %q does the work of %q", s.at, s.name, other.name)
			continue
		}
		if p.holds && w.membersHave(p, s.name) || strings.Contains(s.name, "storybook") {
			w.Leave("%s: the script %q: the packages have it", s.at, s.name)
			continue
		}
		if usual := p.scripts["build"]; usual != nil && s != usual && usual.role == asCompiler &&
			s.main.Program == usual.main.Program {
			w.Leave("%s: the script %q: another form of \"build\"", s.at, s.name)
			continue
		}
		w.addCompiler(p, s)
	}
}

func (w *workspace) addCompiler(p *member, s *script) {
	u := w.unit(p, s)
	u.Kind, u.Name = plan.Task, project.Named(p.dir, s.name)
	u.Outputs, u.Makes = w.outputs(p, s)
	u.Watch = p.sources(s.sources)
	u.Ignore = append(p.made(u.Outputs), project.In(p.dir, "**/*.{test,spec}.*")...)
	if s.role == asRecompiler {
		u.Kind, u.Pass = plan.Service, true
		u.Ignore, u.Guess = p.made(u.Outputs), "its own watch mode picks up changes"
		u.Outputs = nil
	}
	if s.main.Program == "sass" {
		u.Ignore = project.In(p.dir, "node_modules/**", "**/.*/**")
	}
	p.outputs = append(p.outputs, u.Outputs...)
	if s.role == asRecompiler {
		made, _ := w.outputs(p, s)
		p.outputs = append(p.outputs, made...)
	}
	if w.isServedFresh(p, s) {
		u.Manual, u.Guess = true, "the server for development compiles by itself, so it runs only when asked for"
		w.Add(u)
		return
	}
	p.builds = append(p.builds, w.Add(u))
}

// isServedFresh reports whether a server of the same tool compiles by itself what a script compiles.
func (w *workspace) isServedFresh(p *member, s *script) bool {
	return slices.ContainsFunc(p.order, func(other *script) bool {
		return other.role == asReloader && other.main.Program == s.main.Program &&
			slices.Contains(usualServices, other.name)
	})
}
