package node

import (
	"fmt"
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/lazyregexp"
)

// lifecycle are the scripts that package managers run by themselves.
var lifecycle = []string{
	"install",
	"preinstall",
	"postinstall",
	"prepare",
	"prepublish",
	"prepublishOnly",
	"prepack",
	"postpack",
	"preversion",
	"version",
	"postversion",
	"dependencies",
}

// usualServices are names of scripts that usually keep running, the best ones first.
var usualServices = []string{
	"dev",
	"start",
	"serve",
	"server",
	"develop",
	"start:dev",
	"dev:server",
	"server:dev",
	"start:server",
	"worker",
	"start:worker",
	"web",
	"api",
	"watch",
}

// isServiceName reports whether a script of that name usually keeps running.
func isServiceName(name string) bool {
	first, _, _ := strings.Cut(name, ":")
	return slices.Contains(usualServices, name) || slices.Contains([]string{"dev", "start", "serve"}, first)
}

// isHook reports whether a package manager runs a script by itself: at installation, or before or after another one.
func (p *nodePackage) isHook(s *script) bool {
	for _, before := range []string{"pre", "post"} {
		if of, is := strings.CutPrefix(s.name, before); is && p.scripts[of] != nil {
			return true
		}
	}
	return slices.Contains(lifecycle, s.name)
}

// hooked adds what npm runs before and after a script. If none of that compiles, the script can do without.
func (n *node) hooked(p *nodePackage, s *script) {
	before, after := p.scripts["pre"+s.name], p.scripts["post"+s.name]
	if n.tool.name != "npm" || before == nil && after == nil {
		return
	}
	if s.alone = before == nil || n.judged(p, before, nil).role != asCompiler; s.alone {
		return
	}
	s.text = before.text + " && " + s.text
	s.commands = append(slices.Clone(before.commands), s.commands...)
}

var buildNames = lazyregexp.New(
	`(?i)build|compil|bundle|tsc|css|sass|scss|styles?|^[jt]s$|transpile|webpack|rollup|esbuild|vite|assets|` +
		`^dist$|client|server|watch|dev`,
)

var otherBuilds = lazyregexp.New(
	`(?i)test|update|docs?\b|bench|release|analy|profile|size|stats|storybook|demo|example|prod$`,
)

var checkNames = lazyregexp.New(`(?i)lint|type|check|format|fmt|style|prettier|eslint|standard|unused|spell`)

var otherTests = lazyregexp.New(`cov|watch|debug|ci$|update|snap|only|bench|perf|:once`)

var needsMore = lazyregexp.New(`e2e|integration|browser|visual|acceptance|smoke|system`)

// draft adds the units of all packages: compilers first, because the others refer to them.
func (n *node) draft() {
	if n.setup != nil {
		n.Note(
			"%s: %s installs the packages once, for all units",
			path.Join(n.packages[0].dir, n.tool.lock),
			n.tool.name,
		)
	}
	for _, p := range n.packages {
		n.compilers(p)
	}
	for _, p := range n.packages {
		n.services(p)
		n.tests(p)
		n.checks(p)
		n.rest(p)
	}
	for _, p := range n.packages {
		n.dependOnPackages(p)
	}
}

// unit returns a unit for a script.
func (n *node) unit(p *nodePackage, s *script) project.Unit {
	u := project.Unit{
		From: fmt.Sprintf("%s: the script %q: %s", s.at, s.name, s.text), Dir: project.AsDir(p.dir), Setup: n.setup,
		Run: n.tool.name + " run " + s.name, Manual: project.IsExample(p.dir),
	}
	if p.dir != "." && n.HasEnvFile(p.dir) {
		u.EnvFiles = []string{path.Join(p.dir, ".env")}
	}
	if s.alone {
		u.Run += " --ignore-scripts" // without pre and post scripts
	}
	if len(s.once) > 0 {
		u.Run = n.inPackage(s.main.Env, s.once)
		u.Guess = "without what makes it repeat its work by itself"
	}
	return u
}

// inPackage is the command that runs a tool of a package directly.
func (n *node) inPackage(env, words []string) string {
	direct := map[string]string{
		"npm": "npx --no-install", "pnpm": "pnpm exec", "yarn": "yarn run", "bun": "bunx",
	}[n.tool.name]
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
func (p *nodePackage) sources(of []string) []string {
	if len(of) == 0 {
		of = []string{webSources}
	}
	return project.In(p.dir, of...)
}

// made are patterns of what is no source in a package.
func (p *nodePackage) made(outputs []string) []string {
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
func (n *node) outputs(p *nodePackage, s *script) (patterns, paths []string) {
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

var outDir = lazyregexp.New(`(?m)^[^/\n]*"outDir"\s*:\s*"([^"]+)"`)
var noEmit = lazyregexp.New(`(?m)^[^/\n]*"noEmit"\s*:\s*true`)
var extends = lazyregexp.New(`(?m)^[^/\n]*"extends"\s*:\s*"(\.[^"]+)"`)

// tscOutputs returns where the TypeScript compiler writes (empty: next to the sources), from its settings, and whether
// it writes at all.
func (n *node) tscOutputs(p *nodePackage, c project.Command) (made []string, emits bool) {
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
		text := n.Read(path.Join(p.dir, config))
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
func (n *node) compilers(p *nodePackage) {
	var once, again []*script
	for _, s := range p.order {
		switch {
		case p.isHook(s) || s.name != "build" && p.isCalledBy(s, asCompiler):
		case s.role != asCompiler && s.role != asRecompiler:
		case otherBuilds.MatchString(s.name) || !buildNames.MatchString(s.name):
			n.Leave("%s: the script %q: a build for another purpose", s.at, s.name)
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
			n.Leave("%s: the script %q does the work of %q", s.at, s.name, plain.name)
			continue
		}
		n.addCompiler(p, s)
	}
	for _, s := range once {
		if other := byTool(again, s.main.Program); other != nil && len(s.commands) == 1 && other.role == asRecompiler {
			n.Leave("%s: the script %q does the work of %q", s.at, s.name, other.name)
			continue
		}
		if p.holds && n.membersHave(p, s.name) || strings.Contains(s.name, "storybook") {
			n.Leave("%s: the script %q: the packages have it", s.at, s.name)
			continue
		}
		if usual := p.scripts["build"]; usual != nil && s != usual && usual.role == asCompiler &&
			s.main.Program == usual.main.Program {
			n.Leave("%s: the script %q: another form of \"build\"", s.at, s.name)
			continue
		}
		n.addCompiler(p, s)
	}
}

func (n *node) addCompiler(p *nodePackage, s *script) {
	u := n.unit(p, s)
	u.Kind, u.Name = plan.Task, project.Named(p.dir, s.name)
	u.Outputs, u.Makes = n.outputs(p, s)
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
		made, _ := n.outputs(p, s)
		p.outputs = append(p.outputs, made...)
	}
	if n.isServedFresh(p, s) {
		u.Manual, u.Guess = true, "the server for development compiles by itself, so it runs only when asked for"
		n.Add(u)
		return
	}
	p.builds = append(p.builds, n.Add(u))
}

// isServedFresh reports whether a server of the same tool compiles by itself what a script compiles.
func (n *node) isServedFresh(p *nodePackage, s *script) bool {
	return slices.ContainsFunc(p.order, func(other *script) bool {
		return other.role == asReloader && other.main.Program == s.main.Program &&
			slices.Contains(usualServices, other.name)
	})
}

// isCalledBy reports whether another script of a role runs this one.
func (p *nodePackage) isCalledBy(s *script, by role) bool {
	return slices.ContainsFunc(p.order, func(other *script) bool {
		return other != s && other.role == by && slices.Contains(other.calls, s.name) && !p.isHook(other)
	})
}

// membersHave reports whether other packages of the workspace have a script of that name.
func (n *node) membersHave(p *nodePackage, name string) bool {
	return slices.ContainsFunc(n.packages, func(m *nodePackage) bool { return m != p && m.scripts[name] != nil })
}

var nodeServes = lazyregexp.New(
	`\.listen\(|createServer\(|\bserve\(|fastify\(|express\(|new Hono|new Koa|setInterval\(|\.consume\(|new Worker\(|` +
		`NestFactory|Bun\.serve|Deno\.serve`,
)

// services adds the scripts that keep running: one for each program.
func (n *node) services(p *nodePackage) {
	type program struct{ by, entry string }
	chosen := map[program]*script{}
	var order []program
	for _, s := range byUse(p.order) {
		if s.role != asServer && s.role != asReloader || p.isHook(s) {
			continue
		}
		if !isServiceName(s.name) && s.role == asServer && !n.listens(p, s) {
			continue // a script that ends
		}
		key := program{entry: s.entry}
		if s.entry == "" {
			key.by = s.main.Program
		}
		if p.holds && n.membersHave(p, s.name) && s.entry == "" {
			n.Leave("%s: the script %q: the packages have it", s.at, s.name)
			continue
		}
		before := chosen[key]
		switch {
		case before == nil:
			order = append(order, key)
			chosen[key] = s
		case s.role == asServer && len(s.once) == 0 && before.role != asReloader &&
			(len(before.once) > 0 || before.maybe):
			n.Leave(
				"%s: the script %q runs the program of %q, and repeats that by itself",
				before.at,
				before.name,
				s.name,
			)
			chosen[key] = s
		default:
			n.Leave("%s: the script %q runs the program of %q", s.at, s.name, before.name)
		}
	}
	for i, key := range order {
		n.addProgram(p, chosen[key], i == 0)
	}
}

// byUse sorts scripts so that the usual names of services come first.
func byUse(scripts []*script) []*script {
	rank := func(s *script) int {
		if i := slices.Index(usualServices, s.name); i >= 0 {
			return i
		}
		return len(usualServices)
	}
	sorted := slices.Clone(scripts)
	slices.SortStableFunc(sorted, func(a, b *script) int { return rank(a) - rank(b) })
	return sorted
}

// source returns the text of what a script runs, or "".
func (n *node) source(p *nodePackage, entry string) string {
	if entry == "." {
		entry = p.Main
	}
	stem := strings.TrimSuffix(path.Base(entry), path.Ext(entry))
	for _, name := range []string{entry, entry + ".js", entry + ".ts", entry + "/index.js", entry + "/index.ts",
		"src/" + stem + ".ts", "src/" + stem + ".js"} { // the last two: what a compiler has it from
		if text := n.Read(path.Join(p.dir, name)); name != "" && text != "" {
			return text
		}
	}
	return ""
}

// listens reports whether what a script runs seems to keep running.
func (n *node) listens(p *nodePackage, s *script) bool {
	return nodeServes.MatchString(n.source(p, s.entry))
}

func (n *node) addProgram(p *nodePackage, s *script, only bool) {
	u := n.unit(p, s)
	u.Kind, u.Name = plan.Service, project.Named(p.dir, s.name)
	if b := project.Base(p.dir); b != "" && only {
		u.Name = b
	}
	source := n.source(p, s.entry)
	u.Port = project.PortOf(strings.Join(s.main.Env, " ") + " " + s.text + "\n" + source)
	u.Sure = u.Port != 0
	if strings.Contains(source, "env.PORT") {
		if port := n.EnvPort(p.dir); port != 0 {
			u.Port = port
		}
	}
	switch {
	case s.role == asReloader:
		u.Guess, u.Sure = "it picks up changes by itself, so nothing restarts it", false
	default:
		general := p.sources(nil)
		u.Watch, u.Ignore, u.Without = general, append(p.made(nil), project.In(p.dir, "**/*.{test,spec}.*")...), general
		n.linkProgram(p, s, &u)
		if (s.maybe || source != "" && !nodeServes.MatchString(source)) && !n.usesServer(p) {
			u.Kind, u.MayServe, u.Guess = plan.Task, true, "it may end, or keep running"
			u.Sure = false
		} else if u.Guess == "" {
			u.Guess = "it keeps running"
		}
	}
	if s.main.Program == "electron" || project.IsExample(s.entry) {
		u.Manual = true
	}
	n.AddService(u, path.Join(p.dir, s.entry))
}

// linkProgram records what a program runs. If its script compiles that first, and another unit does so anyway, only its
// last command is run.
func (n *node) linkProgram(p *nodePackage, s *script, u *project.Unit) {
	entry := s.entry
	if entry == "." {
		entry = path.Clean(p.Main)
	}
	if entry == "" || entry == "." {
		entry = tools[s.main.Program].makes
	}
	if entry == "" {
		return
	}
	entry = path.Join(p.dir, entry)
	if path.Ext(entry) == "" && n.Has(entry) {
		u.Watch = append(slices.Clone(u.Watch), project.In(".", entry)...)
	}
	made := slices.ContainsFunc(n.Units, func(o project.Unit) bool {
		return slices.ContainsFunc(o.Makes, func(m string) bool { return strings.HasPrefix(entry, m+"/") })
	})
	switch {
	case len(s.makes) == 0:
		u.Runs = []string{entry}
	case made && len(s.once) == 0:
		u.Runs = []string{entry}
		n.withoutCompiling(p, s, u)
	}
}

// withoutCompiling lets a unit run a script without the commands that another unit does: two compilers that write the
// same files at the same time leave one of two states. A unit for which that is not possible runs only when asked for.
func (n *node) withoutCompiling(p *nodePackage, s *script, u *project.Unit) {
	var made []string // by other units
	for _, o := range n.Units {
		if !o.Manual {
			made = append(made, o.Makes...)
		}
	}
	writes := func(makes []string) (all, some bool) {
		all = true
		for _, m := range makes {
			known := slices.Contains(made, path.Join(p.dir, m))
			all, some = all && known, some || known
		}
		return all && some, some
	}
	if _, some := writes(s.makes); !some {
		return
	}
	for _, m := range s.makes {
		u.Runs = append(u.Runs, path.Join(p.dir, m))
	}
	var rest []string
	for _, step := range project.Steps(s.text) {
		of := n.judged(p, &script{name: s.name, text: step, commands: project.CommandsOf(step)}, nil)
		if all, some := writes(of.makes); !some {
			rest = append(rest, step)
		} else if !all || of.role != asCompiler {
			rest = nil
			break
		}
	}
	if len(rest) == 0 {
		u.Manual, u.Guess = true, "it compiles to the files that another unit writes, so it runs only when asked for"
		return
	}
	u.Guess = "without the commands that another unit runs"
	bin := "node_modules/.bin"
	if up := strings.TrimPrefix(p.dir, n.setupDir()+"/"); up != p.dir {
		bin += ":" + strings.Repeat("../", strings.Count(up, "/")+1) + bin
	}
	plain := func(step string) bool { return referred(project.CommandsOf(step)[0]) == "" }
	if u.Run = strings.Join(rest, " && "); !slices.ContainsFunc(rest, plain) {
		return
	}
	u.Run = "export PATH=\"" + bin + ":$PATH\"; " + u.Run
}

// setupDir is the directory with the packages that are installed.
func (n *node) setupDir() string { return n.packages[0].dir }

var servers = []string{
	"express",
	"fastify",
	"koa",
	"hapi",
	"@hapi/hapi",
	"@nestjs/core",
	"hono",
	"restify",
	"socket.io",
	"ws",
	"bullmq",
	"bull",
	"amqplib",
	"kafkajs",
	"next",
	"polka",
	"micro",
	"apollo-server",
	"@apollo/server",
}

func (n *node) usesServer(p *nodePackage) bool {
	return slices.ContainsFunc(servers, func(name string) bool { _, uses := p.Dependencies[name]; return uses })
}

// tests adds the test scripts of a package: "test", or all others if there is none.
func (n *node) tests(p *nodePackage) {
	main := p.scripts["test"]
	whole := main != nil && main.role == asTests
	for _, s := range p.order {
		if s.role != asTests && !(s == main && s.role == asUnknown) || p.isHook(s) {
			if s.role == asCombination && strings.HasPrefix(s.name, "test") {
				n.Leave("%s: the script %q %s", s.at, s.name, s.why)
			}
			continue
		}
		if strings.Contains(s.text, "no test specified") || s == main && len(s.commands) == 0 {
			continue
		}
		slow := s.slow || needsMore.MatchString(s.name)
		switch {
		case s != main && p.isCalledBy(s, asTests) && (!main.isSlow() || slow):
			n.Leave("%s: the script %q is a part of another one", s.at, s.name)
			continue
		case s != main && (whole && !slow && !main.isSlow() || otherTests.MatchString(s.name)):
			n.Leave("%s: the script %q: another form of the tests", s.at, s.name)
			continue
		case p.holds && s == main && len(s.commands) == 1 && s.role == asUnknown && n.membersHave(p, "test"):
			n.Leave("%s: the script %q: the packages have it", s.at, s.name)
			continue
		}
		u := n.unit(p, s)
		u.Kind, u.Name, u.Watch, u.Ignore = plan.Suite, project.Named(p.dir, s.name), p.sources(nil), p.made(nil)
		if slow {
			u.Manual, u.Guess = true, "it needs a browser or something that is running, so it runs only when asked for"
		}
		for _, run := range s.commands {
			for _, arg := range run.Args {
				u.Runs = append(u.Runs, path.Join(p.dir, arg))
			}
		}
		if len(s.once) == 0 {
			n.withoutCompiling(p, s, &u)
		}
		n.Add(u)
	}
}

// isSlow reports whether a script, if there is one, needs more than the package.
func (s *script) isSlow() bool { return s != nil && s.slow }

// checks adds linters and type checkers.
func (n *node) checks(p *nodePackage) {
	chosen := map[string]*script{}
	for _, s := range p.order {
		if s.role != asCheck || p.isHook(s) {
			continue
		}
		other := chosen[s.main.Program]
		compiles := slices.ContainsFunc(p.order, func(o *script) bool {
			return (o.role == asCompiler || o.role == asRecompiler) && o.main.Program == "tsc"
		})
		switch {
		case !checkNames.MatchString(s.name) || strings.HasPrefix(s.name, "test"):
			n.Leave("%s: the script %q: its name says something else than its commands", s.at, s.name)
		case other != nil && len(s.calls) == 0:
			n.Leave("%s: the script %q does the work of %q", s.at, s.name, other.name)
		case s.main.Program == "tsc" && compiles:
			n.Leave("%s: the script %q: the compiler reports the same", s.at, s.name)
		case p.isCalledBy(s, asCheck) || p.isCalledBy(s, asTests):
			n.Leave("%s: the script %q is a part of another one", s.at, s.name)
		case p.holds && n.membersHave(p, s.name) && s.main.Program == "":
			n.Leave("%s: the script %q: the packages have it", s.at, s.name)
		default:
			u := n.unit(p, s)
			u.Kind, u.Name, u.Watch, u.Ignore = plan.Task, project.Named(p.dir, s.name), p.sources(nil), p.made(nil)
			if s.main.Program == "prettier" || s.main.Program == "standard" {
				u.Watch = project.In(p.dir, strings.Replace(webSources, "graphql", "graphql,md,yml,yaml", 1))
			}
			n.Add(u)
			chosen[s.main.Program] = s
		}
	}
}

// rest records why the other scripts are left out.
func (n *node) rest(p *nodePackage) {
	var others []string
	for _, s := range p.order {
		switch {
		case p.isHook(s), strings.Contains(s.text, "no test specified"):
		case s.role == asHarm, s.role == asCleaner, s.role == asCombination && s.why != "":
			n.Leave("%s: the script %q %s", s.at, s.name, s.why)
		case s.role == asCombination:
			n.Leave("%s: the script %q starts %s", s.at, s.name, strings.Join(s.calls, ", "))
		case s.role == asUnknown && s.name != "test" && !slices.Contains(usualServices, s.name):
			others = append(others, s.name)
		}
	}
	if len(others) > 0 {
		n.Leave("%s: what these scripts are for is not known: %s", p.file, strings.Join(others, ", "))
	}
}

// dependOnPackages makes the units of a package wait for the packages of the workspace that it uses to be compiled,
// and watch those that are used as they are.
func (n *node) dependOnPackages(p *nodePackage) {
	for _, other := range n.packages {
		if other == p || !p.dependsOn(other.Name) {
			continue
		}
		for i := range n.Units {
			u := &n.Units[i]
			if u.Commented || u.Setup != n.setup || u.Dir != project.AsDir(p.dir) ||
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
