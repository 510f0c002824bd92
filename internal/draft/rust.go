package draft

import (
	"maps"
	"path"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/lazyregexp"
)

// cargo is the part of a Cargo.toml that is read.
type cargo struct {
	Package struct {
		Name       string
		DefaultRun string `toml:"default-run"`
	}
	Dependencies map[string]any
	Bin          []struct {
		Name, Path string
		Features   []string `toml:"required-features"`
	}
	Workspace *struct {
		Members, Exclude []string
	}
}

var (
	rustServes = lazyregexp.New(
		`TcpListener|HttpServer::new|axum::serve|Server::bind|\.launch\(\)|warp::serve|tiny_http|` +
			`Server::builder\(|rocket::build`,
	)
	rustMain     = lazyregexp.New(`(?m)^\s*(?:pub )?(?:async )?fn main\b`)
	cargoPackage = lazyregexp.New(`(?m)^\[(?:package|workspace)\]`)
)

// readCargo finds the programs and tests of Cargo packages and workspaces.
func readCargo(p *project.Project) {
	for _, dir := range p.Places("Cargo.toml") {
		file := path.Join(dir, "Cargo.toml")
		text := p.Read(file)
		var m cargo
		if err := toml.Unmarshal([]byte(text), &m); err != nil {
			p.Leave("%s: it could not be read: %v", file, err)
			continue
		}
		r := &rust{Project: p, dir: dir, at: project.AtMatch(file, text, cargoPackage)}
		r.watch = append(
			project.In(dir, "**/*.rs", "**/Cargo.toml"),
			p.Existing(dir, "Cargo.lock", "rust-toolchain.toml")...)
		r.watch = append(r.watch, embedded(p, dir)...)
		all := ""
		if m.Workspace != nil {
			all = " --workspace"
			for _, member := range m.Workspace.Members {
				r.members(member)
			}
		}
		if m.Package.Name != "" {
			r.binaries(dir, m, file)
		}
		ignore := project.In(dir, "target/**")
		p.Add(
			project.Unit{
				Kind:   plan.Task,
				Name:   project.Named(dir, "check"),
				Dir:    project.AsDir(dir),
				From:   r.at,
				Run:    "cargo check --bins --tests --examples" + all,
				Watch:  r.watch,
				Ignore: ignore,
			},
		)
		p.Add(
			project.Unit{
				Kind:   plan.Suite,
				Name:   project.Named(dir, "test"),
				Dir:    project.AsDir(dir),
				From:   r.at,
				Run:    "cargo test --no-fail-fast" + all,
				Watch:  r.watch,
				Ignore: ignore,
			},
		)
	}
}

var rustIncludes = lazyregexp.New(`include_(?:str|bytes)!\(\s*"([^"]+)"`)

// embedded returns patterns of files that are compiled into programs.
func embedded(p *project.Project, dir string) []string {
	found := map[string]bool{}
	p.Files(dir, func(name string) {
		for _, m := range rustIncludes.FindAllStringSubmatch(p.Read(name), -1) {
			if file := path.Join(path.Dir(name), m[1]); !strings.HasPrefix(file, "..") && p.Has(file) {
				found[project.In(".", file)[0]] = true
			}
		}
	}, ".rs")
	return slices.DeleteFunc(slices.Sorted(maps.Keys(found)), func(f string) bool { return path.Ext(f) == ".rs" })
}

// rust is a Cargo package or workspace.
type rust struct {
	*project.Project
	dir, at string
	watch   []string
}

// members reads the packages that a pattern of a workspace matches.
func (r *rust) members(pattern string) {
	dirs := []string{path.Join(r.dir, pattern)}
	if strings.ContainsAny(pattern, "*?[") {
		dirs = nil
		for _, file := range r.GlobFiles(path.Join(r.dir, pattern, "Cargo.toml")) {
			dirs = append(dirs, path.Dir(file))
		}
	}
	for _, dir := range dirs {
		var m cargo
		file := path.Join(dir, "Cargo.toml")
		if err := toml.Unmarshal([]byte(r.Read(file)), &m); err == nil && m.Package.Name != "" && dir != r.dir {
			r.binaries(dir, m, file)
		}
	}
}

// binaries adds the programs of a package.
func (r *rust) binaries(dir string, m cargo, file string) {
	sources := r.programs(dir, m)
	for _, name := range slices.Sorted(maps.Keys(sources)) {
		source := path.Join(dir, sources[name])
		if text := r.Read(source); text != "" && name != "" {
			r.program(name, source, text, file)
		}
	}
}

// programs returns the main sources of a package's programs, by name.
func (r *rust) programs(dir string, m cargo) map[string]string {
	sources := map[string]string{}
	if r.Has(path.Join(dir, "src/main.rs")) {
		sources[m.Package.Name] = "src/main.rs"
	}
	others := r.GlobFiles(path.Join(dir, "src/bin/*.rs"))
	for _, found := range append(others, r.GlobFiles(path.Join(dir, "src/bin/*/main.rs"))...) {
		name := strings.TrimSuffix(path.Base(found), ".rs")
		if name == "main" {
			name = path.Base(path.Dir(found))
		}
		sources[name] = strings.TrimPrefix(found, dir+"/")
	}
	for _, bin := range m.Bin {
		if bin.Path == "" {
			continue
		}
		maps.DeleteFunc(sources, func(_, source string) bool { return path.Clean(bin.Path) == source })
		if len(bin.Features) == 0 {
			sources[bin.Name] = path.Clean(bin.Path)
		}
	}
	return sources
}

// program adds a program. A server is compiled by a task and then started, so that an error leaves the old one running.
func (r *rust) program(name, source, text, file string) {
	u := project.Unit{
		Kind:   plan.Task,
		Name:   name,
		Dir:    project.AsDir(r.dir),
		From:   project.AtMatch(source, text, rustMain) + ": a program of " + file,
		Watch:  r.watch,
		Ignore: project.In(r.dir, "target/**"),
		Manual: true,
		Guess:  "it ends by itself, and runs only when asked for",
		Run:    format.Typed([]string{"cargo", "run", "--bin", name}),
	}
	whole := text
	r.Files(path.Dir(source), func(name string) { whole += r.Read(name) }, ".rs")
	if !rustServes.MatchString(whole) {
		r.Add(u)
		return
	}
	u.Manual = project.IsExample(source)
	build := u
	build.Name, build.Guess, build.Ignore = name+"-build", "", nil
	build.Run = format.Typed([]string{"cargo", "build", "--bin", name})
	build.Outputs = project.In(r.dir, "target/debug/"+name)
	u.Kind, u.Guess, u.Watch, u.Ignore = plan.Service, "it serves, so it keeps running", nil, nil
	if rustServes.MatchString(text) {
		u.From = project.AtMatch(source, text, rustServes) + ": it listens"
	}
	u.WaitFor(r.Add(build))
	u.Run = format.Typed([]string{"./target/debug/" + name})
	u.Port = project.PortOf(whole)
	u.Sure = u.Port != 0
	r.AddService(u, source)
}
