package draft

import (
	"go/parser"
	"go/token"
	"maps"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strings"

	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
)

var goModule = regexp.MustCompile(`(?m)^module\s+(\S+)`)

var goListens = regexp.MustCompile(`ListenAndServe|\bnet\.Listen|http\.Serve\(|\.Serve\(`)

var goEmbeds = regexp.MustCompile(`(?m)^//go:embed[ \t]+(.+)$`)

// plainPattern is one in which nothing but stars has a meaning.
var plainPattern = regexp.MustCompile(`^[\w./*-]+$`)

// goPackage is what a folder of a module has.
type goPackage struct {
	isMain  bool
	text    string   // of all its files, if it is one that runs
	imports []string // folders of the module
	embeds  []string // patterns of files that are built in, relative to the project's folder
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

// goPackages reads the packages of a module, by their folders, and reports whether there are tests.
func (p *project) goPackages(module string) (packages map[string]*goPackage, tested bool) {
	packages = map[string]*goPackage{}
	p.files(func(name string) {
		if strings.HasSuffix(name, "_test.go") {
			tested = true
			return
		}
		file, err := parser.ParseFile(token.NewFileSet(), filepath.Join(p.root, name), nil, parser.ImportsOnly)
		if err != nil {
			return
		}
		dir, text := path.Dir(name), p.read(name)
		of := packages[dir]
		if of == nil {
			of = &goPackage{}
			packages[dir] = of
		}
		if file.Name.Name == "main" {
			of.isMain = true
			of.text += text
		}
		for _, i := range file.Imports {
			if rest, own := strings.CutPrefix(strings.Trim(i.Path.Value, `"`), module+"/"); own {
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

// builtFrom returns patterns for what a main package is built from: its own folder, and whole
// those of the module's first folders in which it has a part, so that what it imports tomorrow
// counts as well.
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
		if !strings.ContainsAny(path.Base(e), "*.") { // a folder
			add(e + "/**")
		}
	}
	return patterns
}
