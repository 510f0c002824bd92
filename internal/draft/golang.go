package draft

import (
	"go/scanner"
	"go/token"
	"maps"
	"path"
	"slices"
	"strconv"
	"strings"

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
	isMain  bool
	text    string   // of all its files, if it is a main package
	imports []string // directories of the module
	embeds  []string // patterns of embedded files, relative to the project's directory
}

// readGo finds the main packages and tests of a Go module.
func readGo(p *project) {
	named := goModule.FindStringSubmatch(p.read("go.mod"))
	if named == nil {
		return
	}
	module := strings.Trim(named[1], `"`)
	packages, tested := p.goPackages(module)
	shared := []string{"go.mod"}
	if p.has("go.sum") {
		shared = append(shared, "go.sum")
	}
	for _, dir := range slices.Sorted(maps.Keys(packages)) {
		found := packages[dir]
		if !found.isMain {
			continue
		}
		name, run := path.Base(dir), format.Typed([]string{"go", "run", "./" + dir})
		if dir == "." {
			name, run = path.Base(module), "go run ."
		}
		u := unit{
			name:   name,
			from:   "go.mod, and the main package in " + dir,
			run:    run,
			watch:  append(builtFrom(packages, dir), shared...),
			ignore: []string{"**/*_test.go"},
		}
		u.kind, u.guess, u.manual = plan.Task, "it ends by itself, and runs only when asked for", true
		if goListens.MatchString(found.text) {
			u.kind, u.guess, u.manual = plan.Service, "it listens, so it is a service", false
			u.port = portOf(found.text)
		}
		p.add(u)
	}
	if tested {
		p.add(
			unit{
				kind:  plan.Suite,
				name:  "test",
				from:  "go.mod, and files that end in _test.go",
				run:   "go test ./...",
				watch: append([]string{"**/*.go"}, shared...),
			},
		)
	}
}

// goPackages reads the packages of a module, by directory, and reports whether there are tests.
func (p *project) goPackages(module string) (packages map[string]*goPackage, tested bool) {
	packages = map[string]*goPackage{}
	p.files(func(name string) {
		if strings.HasSuffix(name, "_test.go") {
			tested = true
			return
		}
		dir, text := path.Dir(name), p.read(name)
		pkg, imports := goHead([]byte(text))
		if pkg == "" {
			return
		}
		of := packages[dir]
		if of == nil {
			of = &goPackage{}
			packages[dir] = of
		}
		if pkg == "main" {
			of.isMain = true
			of.text += text
		}
		for _, imported := range imports {
			if rest, own := strings.CutPrefix(imported, module+"/"); own {
				of.imports = append(of.imports, rest)
			}
		}
		for _, m := range goEmbeds.FindAllStringSubmatch(text, -1) {
			for _, pattern := range strings.Fields(m[1]) {
				if pattern = strings.TrimPrefix(pattern, "all:"); plainPattern.MatchString(pattern) {
					of.embeds = append(of.embeds, in(dir, pattern)...)
				}
			}
		}
	}, ".go")
	return packages, tested
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
func builtFrom(packages map[string]*goPackage, dir string) []string {
	var patterns []string
	add := func(pattern string) {
		if !slices.Contains(patterns, pattern) {
			patterns = append(patterns, pattern)
		}
	}
	own := in(dir, "**/*.go")[0]
	if dir == "." {
		own = "*.go"
	}
	add(own)
	seen, next := map[string]bool{dir: true}, []string{dir}
	var embeds []string
	for len(next) > 0 {
		of := packages[next[0]]
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
			if within := dir != "." && strings.HasPrefix(i, dir+"/"); !within {
				first, _, _ := strings.Cut(i, "/")
				add(in(first, "**/*.go")[0])
			}
		}
	}
	for _, e := range embeds {
		add(e)
		if !strings.ContainsAny(path.Base(e), "*.") { // a directory
			add(e + "/**")
		}
	}
	return patterns
}
