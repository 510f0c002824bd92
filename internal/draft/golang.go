package draft

import (
	"go/parser"
	"go/token"
	"path"
	"path/filepath"
	"regexp"
	"strings"

	"omnivigil/internal/phrase"
	"omnivigil/internal/plan"
)

var goModule = regexp.MustCompile(`(?m)^module\s+(\S+)`)

var goListens = regexp.MustCompile(`ListenAndServe|\bnet\.Listen|http\.Serve\(|\.Serve\(`)

// readGo finds the main packages and tests of a Go module.
func readGo(p *project) {
	module := goModule.FindStringSubmatch(p.read("go.mod"))
	if module == nil {
		return
	}
	mains, tested := map[string]string{}, false // the text of each main package, by its folder
	var order []string
	p.files(func(name string) {
		if strings.HasSuffix(name, "_test.go") {
			tested = true
			return
		}
		file, err := parser.ParseFile(token.NewFileSet(), filepath.Join(p.root, name), nil, parser.PackageClauseOnly)
		if err != nil || file.Name.Name != "main" {
			return
		}
		dir := path.Dir(name)
		if mains[dir] == "" {
			order = append(order, dir)
		}
		mains[dir] += p.read(name)
	}, ".go")
	watch := []string{"**/*.go", "go.mod"}
	if p.has("go.sum") {
		watch = append(watch, "go.sum")
	}
	for _, dir := range order {
		name, run := path.Base(dir), phrase.Typed([]string{"go", "run", "./" + dir})
		if dir == "." {
			name, run = path.Base(strings.Trim(module[1], `"`)), "go run ."
		}
		u := unit{name: name, from: "go.mod, and the main package in " + dir, run: run, watch: watch, ignore: []string{"**/*_test.go"}}
		u.kind, u.guess, u.manual = plan.Task, "it ends by itself, and runs only when asked for", true
		if goListens.MatchString(mains[dir]) {
			u.kind, u.guess, u.manual = plan.Service, "it listens, so it is a service", false
			u.port = portOf(mains[dir])
		}
		p.add(u)
	}
	if tested {
		p.add(unit{kind: plan.Suite, name: "test", from: "go.mod, and files that end in _test.go", run: "go test ./...", watch: watch})
	}
}
