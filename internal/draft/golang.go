package draft

import (
	"cmp"
	"fmt"
	"go/scanner"
	"go/token"
	"maps"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/lazyregexp"
)

var goModule = lazyregexp.New(`(?m)^module\s+(\S+)`)

var goListens = lazyregexp.New(`ListenAndServe|\bnet\.Listen|http\.Serve\(|\.Serve\(`)

var goEmbeds = lazyregexp.New(`(?m)^//go:embed[ \t]+(.+)$`)

// plainPattern matches patterns in which only stars are special.
var plainPattern = lazyregexp.New(`^[\w./*-]+$`)

// goPackage is what a directory of a module contains.
type goPackage struct {
	isMain    bool
	mainAt    string   // file and line
	text      string   // of all its files
	parts     []goFile // where each begins in it
	imports   []string // directories of the module
	embeds    []string // patterns of embedded files
	generates []goGenerated
}

type goFile struct {
	name string
	from int
}

type goGenerated struct{ at, file, text string }

var goMain = lazyregexp.New(`(?m)^package main`)

// readGo finds the programs, tests and generators of Go modules.
func readGo(p *project.Project) {
	dirs := p.Places("go.mod")
	if len(dirs) > 0 && dirs[0] == "." { // modules within a module are not part of it
		dirs = slices.DeleteFunc(
			slices.Clone(p.Shallow),
			func(dir string) bool { return !p.Has(path.Join(dir, "go.mod")) },
		)
	}
	work := p.Existing(".", "go.work")
	for _, dir := range dirs {
		file := path.Join(dir, "go.mod")
		text := p.Read(file)
		named := goModule.FindStringSubmatch(text)
		if named == nil {
			p.Leave("%s: it names no module", file)
			continue
		}
		m := &goModuleDir{
			Project: p, dir: dir, module: strings.Trim(named[1], `"`), at: project.AtMatch(file, text, goModule),
			shared: append(p.Existing(dir, "go.mod", "go.sum"), work...),
		}
		m.read()
		for _, other := range dirs {
			if other != dir && slices.Contains(m.uses, other) {
				m.shared = append(m.shared, project.In(other, "**/*.go")...)
			}
		}
		m.draft()
	}
}

// goModuleDir is a Go module.
type goModuleDir struct {
	*project.Project
	dir, module, at string
	packages        map[string]*goPackage
	tested          string   // a file of tests
	testData        []string // patterns of what tests read by convention
	shared          []string
	uses            []string // directories of other modules
	generates       []string // the units that generate sources
}

func (m *goModuleDir) draft() {
	m.generators()
	dirs := slices.Sorted(maps.Keys(m.packages))
	for _, dir := range dirs {
		if m.packages[dir].isMain {
			m.program(dir)
		}
	}
	sources := append(project.In(m.dir, "**/*.go"), m.shared...)
	var embeds []string
	for _, dir := range slices.Sorted(maps.Keys(m.packages)) {
		embeds = append(embeds, m.packages[dir].embeds...)
	}
	for _, pattern := range embeddedFiles(embeds) {
		if !slices.Contains(sources, pattern) {
			sources = append(sources, pattern)
		}
	}
	if m.tested != "" {
		u := project.Unit{
			Kind:  plan.Suite,
			Name:  project.Named(m.dir, "test"),
			Dir:   project.AsDir(m.dir),
			From:  m.at + ", and " + m.tested,
			Run:   "go test -json ./...",
			Watch: append(sources, m.testData...),
		}
		m.afterGenerating(&u)
		m.Add(u)
	}
	if len(dirs) > 0 {
		u := project.Unit{
			Kind:  plan.Task,
			Name:  project.Named(m.dir, "vet"),
			Dir:   project.AsDir(m.dir),
			From:  m.at,
			Run:   "go vet ./...",
			Watch: sources,
		}
		m.afterGenerating(&u)
		m.Add(u)
	}
}

// dataOf returns the pattern of a directory's test data, if there is any that is not known yet.
func (m *goModuleDir) dataOf(dir string) []string {
	data := project.In(dir, "testdata/**")
	if !m.Has(path.Join(dir, "testdata")) || slices.Contains(m.testData, data[0]) {
		return nil
	}
	return data
}

func (m *goModuleDir) afterGenerating(u *project.Unit) {
	for _, g := range m.generates {
		u.WaitFor(g)
	}
}

// program adds a program. A server is compiled by a task and then started, so that an error leaves the old one running.
func (m *goModuleDir) program(dir string) {
	found := m.packages[dir]
	within, _ := strings.CutPrefix(dir, m.dir+"/")
	name, target := path.Base(dir), "./"+within
	if dir == m.dir {
		name, target = path.Base(m.module), "."
		if strings.TrimLeft(name, "v0123456789") == "" {
			name = path.Base(path.Dir(m.module))
		}
	}
	u := project.Unit{
		Name:   name,
		Dir:    project.AsDir(m.dir),
		From:   fmt.Sprintf("%s: package main", found.mainAt),
		Manual: project.IsExample(dir),
		Watch:  append(m.builtFrom(dir), m.shared...),
		Ignore: []string{"**/*_test.go"},
	}
	from, source := m.listens(dir)
	switch {
	case u.Manual && m.MoreExamples(dir):
		return
	case source == "":
		u.Kind, u.Manual, u.Guess = plan.Task, true, "it ends by itself, and runs only when asked for"
	case u.Manual:
		u.Kind, u.Guess = plan.Service, "an example, so it runs only when asked for"
	default:
		u.From = from + ": it listens"
		m.server(u, found, source, target)
		return
	}
	u.Run = format.Typed([]string{"go", "run", target})
	m.Add(u)
}

// listens returns where a program listens, and the source of that: its own, or a package that it imports.
func (m *goModuleDir) listens(dir string) (from, source string) {
	main := m.packages[dir]
	if i := goListens.FindStringIndex(main.text); i != nil {
		return main.at(i[0]), main.text
	}
	for _, imported := range main.imports {
		if of := m.packages[imported]; of != nil && isWithinCommands(imported) {
			if i := goListens.FindStringIndex(of.text); i != nil {
				return of.at(i[0]), of.text
			}
		}
	}
	return "", ""
}

// isWithinCommands reports whether a directory usually holds the code of one command: other packages serve many.
func isWithinCommands(dir string) bool {
	return slices.ContainsFunc(strings.Split(dir, "/"), func(element string) bool {
		return slices.Contains([]string{"cmd", "cli", "app", "server", "run", "main"}, element)
	})
}

// server adds a server, and the task that compiles it.
func (m *goModuleDir) server(u project.Unit, found *goPackage, source, target string) {
	name := u.Name
	if slices.ContainsFunc(m.Units, func(o project.Unit) bool { return o.Dir == u.Dir && o.Name == name }) {
		name = strings.ReplaceAll(strings.TrimPrefix(target, "./"), "/", "-") // two programs must not be one file
	}
	binary := path.Join(m.binaries(name), name)
	build := u
	build.Kind, build.Name = plan.Task, name+"-build"
	build.Run = format.Typed([]string{"go", "build", "-o", binary, target})
	build.Outputs = project.In(m.dir, binary)
	m.afterGenerating(&build)
	u.Kind, u.Name, u.Watch, u.Ignore = plan.Service, name, nil, nil
	u.WaitFor(m.Add(build))
	u.Run = format.Typed([]string{"./" + binary})
	u.Port = project.PortOf(source)
	u.Sure = u.Port != 0
	if strings.Contains(found.text+source, `"PORT"`) {
		if port := m.EnvPort(m.dir); port != 0 {
			u.Port = port
		}
	}
	m.AddService(u, strings.TrimPrefix(target, "./"))
}

// binaries returns the directory for programs: one that has no sources.
func (m *goModuleDir) binaries(name string) string {
	for _, dir := range []string{"bin", "build"} {
		info, err := os.Stat(filepath.Join(m.Root, m.dir, dir, name))
		if m.packages[path.Join(m.dir, dir)] == nil && (err != nil || !info.IsDir()) {
			return dir
		}
	}
	return ".bin"
}

var goGenerate = lazyregexp.New(`(?m)^//go:generate[ \t]+(.+)$`)

// generators adds the commands of //go:generate lines. One whose inputs and outputs can be told from its arguments,
// and which needs nothing that must be installed, runs when its inputs change.
func (m *goModuleDir) generators() {
	for _, dir := range slices.Sorted(maps.Keys(m.packages)) {
		of := m.packages[dir]
		for _, line := range of.generates {
			c := project.CommandsOf(line.text)
			if len(c) == 0 || m.Harm(dir, c[:1]) != "" && c[0].Program != "go" {
				continue
			}
			u := project.Unit{
				Kind:   plan.Task,
				Name:   path.Base(dir) + "-generate",
				Dir:    project.AsDir(dir),
				From:   line.at + ": go:generate " + line.text,
				Run:    format.Typed([]string{"go", "generate", "./" + path.Base(line.file)}),
				Manual: true,
				Guess:  "it runs only when asked for",
			}
			inputs, outputs := m.reads(dir, c[0])
			installed := c[0].Program == "go" && (c[0].First() == "run" || c[0].First() == "tool")
			if installed && len(inputs) > 0 && len(outputs) > 0 {
				u.Manual, u.Guess = false, "its arguments name what it reads and writes"
				u.Watch, u.Outputs = inputs, outputs
				m.generates = append(m.generates, m.Add(u))
				continue
			}
			m.Add(u)
		}
	}
}

// reads returns patterns of what a generator reads and writes, as far as its arguments name that.
func (m *goModuleDir) reads(dir string, c project.Command) (inputs, outputs []string) {
	written := []string{"-o", "-out", "--out", "-output", "--output", "-destination", "--destination"}
	for i, arg := range c.Args {
		name, value, is := strings.Cut(arg, "=")
		switch {
		case is && slices.Contains(written, name):
			outputs = append(outputs, project.In(dir, value)...)
		case i > 0 && slices.Contains(written, c.Args[i-1]):
			outputs = append(outputs, project.In(dir, arg)...)
		case strings.HasPrefix(arg, "-") && !is, arg == "." || arg == "..":
		default:
			if is {
				arg = value
			}
			if info, err := os.Stat(filepath.Join(m.Root, dir, arg)); err == nil && !info.IsDir() {
				inputs = append(inputs, project.In(dir, arg)...)
			} else if err == nil && strings.HasPrefix(arg, ".") {
				inputs = append(inputs, project.In(path.Join(dir, arg), "**/*.go")...)
			}
		}
	}
	return inputs, outputs
}

// read reads the packages of a module, by directory relative to the project.
func (m *goModuleDir) read() {
	m.packages = map[string]*goPackage{}
	m.Files(m.dir, func(name string) {
		dir := path.Dir(name)
		if m.isOtherModule(dir) {
			return
		}
		if strings.HasSuffix(name, "_test.go") {
			m.tested = cmp.Or(m.tested, name)
			m.testData = append(m.testData, m.dataOf(dir)...)
			return
		}
		text := m.Project.Read(name)
		pkg, imports := goHead([]byte(text))
		if pkg == "" || strings.Contains(text, "//go:build ignore") {
			return
		}
		of := m.packages[dir]
		if of == nil {
			of = &goPackage{}
			m.packages[dir] = of
		}
		of.take(dir, name, text, pkg, func(imported string) (string, bool) {
			rest, own := strings.CutPrefix(imported, m.module+"/")
			return path.Join(m.dir, rest), own
		}, imports)
	}, ".go")
	for _, match := range goReplace.FindAllStringSubmatch(m.Project.Read(path.Join(m.dir, "go.mod")), -1) {
		m.uses = append(m.uses, path.Join(m.dir, match[1]))
	}
	for _, match := range goUse.FindAllStringSubmatch(m.Project.Read("go.work"), -1) {
		m.uses = append(m.uses, path.Clean(match[1]))
	}
}

var (
	goReplace = lazyregexp.New(`(?m)=>\s*(\.\.?/\S*)`)
	goUse     = lazyregexp.New(`(?m)^(?:use)?\s+(\.\S*)\s*$`)
)

// isOtherModule reports whether a directory belongs to a module within this one.
func (m *goModuleDir) isOtherModule(dir string) bool {
	for ; dir != m.dir && dir != "."; dir = path.Dir(dir) {
		if m.Has(path.Join(dir, "go.mod")) {
			return true
		}
	}
	return false
}

// take adds a file to a package.
func (g *goPackage) take(dir, name, text, pkg string, own func(string) (string, bool), imports []string) {
	if pkg == "main" && !g.isMain {
		g.isMain, g.mainAt = true, project.AtMatch(name, text, goMain)
	}
	g.parts = append(g.parts, goFile{name, len(g.text)})
	g.text += text
	for _, imported := range imports {
		if rest, is := own(imported); is {
			g.imports = append(g.imports, rest)
		}
	}
	for _, m := range goEmbeds.FindAllStringSubmatch(text, -1) {
		for _, pattern := range strings.Fields(m[1]) {
			if pattern = strings.TrimPrefix(pattern, "all:"); plainPattern.MatchString(pattern) {
				g.embeds = append(g.embeds, project.In(dir, pattern)...)
			}
		}
	}
	for _, m := range goGenerate.FindAllStringSubmatchIndex(text, -1) {
		line := strings.TrimSpace(text[m[2]:m[3]])
		g.generates = append(g.generates, goGenerated{project.At(name, text, m[0]), name, line})
	}
}

// at names the place of an offset in the text of a main package.
func (g *goPackage) at(offset int) string {
	for _, part := range slices.Backward(g.parts) {
		if offset >= part.from {
			return project.At(part.name, g.text[part.from:], offset-part.from)
		}
	}
	return g.mainAt
}

// goHead returns the name of a Go file's package (empty: it has none), and the paths that it imports.
func goHead(text []byte) (pkg string, imports []string) {
	var s scanner.Scanner
	s.Init(token.NewFileSet().AddFile("", -1, len(text)), text, nil, 0)
	next := func() (token.Token, string) {
		_, tok, literal := s.Scan()
		return tok, literal
	}
	if tok, _ := next(); tok != token.PACKAGE {
		return "", nil
	}
	_, pkg = next()
	for tok, literal := next(); ; tok, literal = next() {
		switch tok {
		case token.STRING:
			if imported, err := strconv.Unquote(literal); err == nil {
				imports = append(imports, imported)
			}
		case token.IMPORT, token.LPAREN, token.RPAREN, token.SEMICOLON, token.IDENT, token.PERIOD:
		default: // the code after the imports
			return pkg, imports
		}
	}
}

// builtFrom returns patterns for what a main package is built from: its own directory, and as a whole those top
// directories of the module that it imports from, so that future imports count, too.
func (m *goModuleDir) builtFrom(dir string) []string {
	var patterns []string
	add := func(pattern string) {
		if !slices.Contains(patterns, pattern) {
			patterns = append(patterns, pattern)
		}
	}
	own := project.In(dir, "**/*.go")[0]
	if dir == m.dir {
		own = project.In(dir, "*.go")[0]
	}
	add(own)
	seen, next := map[string]bool{dir: true}, []string{dir}
	var embeds []string
	for len(next) > 0 {
		of := m.packages[next[0]]
		next = next[1:]
		if of == nil {
			continue
		}
		embeds = append(embeds, of.embeds...)
		for _, i := range of.imports {
			if seen[i] {
				continue
			}
			seen[i] = true
			next = append(next, i)
			if within := dir != m.dir && project.IsWithin(i, dir); !within {
				rest := i
				if m.dir != "." {
					rest = strings.TrimPrefix(i, m.dir+"/")
				}
				first, _, _ := strings.Cut(rest, "/")
				add(project.In(path.Join(m.dir, first), "**/*.go")[0])
			}
		}
	}
	for _, e := range embeddedFiles(embeds) {
		add(e)
	}
	return patterns
}

// embeddedFiles returns the patterns of embedded files. One that may be a directory stands for what is in it, too.
func embeddedFiles(embeds []string) []string {
	var patterns []string
	for _, e := range embeds {
		patterns = append(patterns, e)
		if !strings.ContainsAny(path.Base(e), "*.") {
			patterns = append(patterns, e+"/**")
		}
	}
	return patterns
}
