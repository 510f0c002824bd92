package draft

import (
	"fmt"
	"maps"
	"path/filepath"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"
	"go.yaml.in/yaml/v3"

	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/lazyregexp"
)

var rustServes = lazyregexp.New(`axum|actix-web|rocket|warp|hyper|tiny_http|tonic|TcpListener`)

// readCargo finds the programs and tests of a Cargo package.
func readCargo(p *project) {
	text := p.read("Cargo.toml")
	if text == "" {
		return
	}
	var m struct {
		Package   struct{ Name string }
		Workspace map[string]any
	}
	if err := toml.Unmarshal([]byte(text), &m); err != nil {
		p.note("Cargo.toml could not be read: %v", err)
		return
	}
	watch := []string{"**/*.rs", "**/Cargo.toml", "Cargo.lock"}
	if source := p.read("src/main.rs"); source != "" {
		u := unit{
			kind:   plan.Task,
			name:   m.Package.Name,
			from:   "Cargo.toml and src/main.rs",
			run:    "cargo run",
			watch:  watch,
			manual: true,
			guess:  "it ends by itself, and runs only when asked for",
		}
		if rustServes.MatchString(text + source) {
			u.kind, u.manual, u.guess, u.port = plan.Service, false, "it serves, so it keeps running", portOf(source)
		}
		p.add(u)
	}
	run := "cargo test"
	if m.Workspace != nil {
		run += " --workspace"
	}
	p.add(unit{kind: plan.Suite, name: "test", from: "Cargo.toml", run: run, watch: watch})
}

var makeTarget = lazyregexp.New(`(?m)^([A-Za-z][A-Za-z0-9_-]*)[ \t]*:(?:[^=]|$)`)

// makeKinds are targets that nearly always have the same meaning.
var makeKinds = map[string]plan.Kind{
	"run":      plan.Service,
	"serve":    plan.Service,
	"dev":      plan.Service,
	"start":    plan.Service,
	"build":    plan.Task,
	"generate": plan.Task,
	"gen":      plan.Task,
	"proto":    plan.Task,
	"lint":     plan.Task,
	"migrate":  plan.Task,
	"test":     plan.Suite,
	"check":    plan.Suite,
}

// readMake finds targets for which there is no unit yet.
func readMake(p *project) {
	file := p.first("Makefile", "makefile", "GNUmakefile")
	if file == "" {
		return
	}
	found := slices.Clone(p.units)
	for _, m := range makeTarget.FindAllStringSubmatch(p.read(file), -1) {
		kind, known := makeKinds[m[1]]
		covered := slices.ContainsFunc(
			found,
			func(u unit) bool { return u.kind == kind && kind != plan.Task || u.name == m[1] },
		)
		if !known || covered || p.taken[m[1]] {
			continue
		}
		u := unit{kind: kind, name: m[1], from: fmt.Sprintf("the target %q of %s", m[1], file), run: "make " + m[1]}
		switch kind {
		case plan.Service:
			u.guess = "it keeps running; say with watch what restarts it"
		default:
			u.manual, u.guess = true, "it runs only when asked for: say with watch what it depends on, and take "+
				"start away"
		}
		p.add(u)
	}
}

// readCompose proposes the services of a compose file, which need a container engine.
func readCompose(p *project) {
	file := p.first("compose.yaml", "compose.yml", "docker-compose.yaml", "docker-compose.yml")
	if file == "" {
		return
	}
	var compose struct {
		Services map[string]struct {
			Image string
			Ports []any
		}
	}
	if err := yaml.Unmarshal([]byte(p.read(file)), &compose); err != nil {
		p.note("%s could not be read: %v", filepath.Base(file), err)
		return
	}
	for _, name := range slices.Sorted(maps.Keys(compose.Services)) {
		service := compose.Services[name]
		u := unit{
			kind:      plan.Service,
			name:      name,
			from:      "the service " + name + " of " + file,
			run:       format.Typed([]string{"docker", "compose", "up", name}),
			commented: true,
		}
		if service.Image != "" {
			u.from += ", image " + service.Image
		}
		for _, port := range service.Ports {
			outer, _, _ := strings.Cut(fmt.Sprint(port), ":")
			fmt.Sscan(outer, &u.port)
			break
		}
		p.add(u)
	}
	if len(compose.Services) > 0 {
		p.note(
			"%s of %s stand as comments: take the signs away to have them run",
			strings.Join(slices.Sorted(maps.Keys(compose.Services)), ", "),
			file,
		)
	}
}
