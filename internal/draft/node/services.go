package node

import (
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

// usualServices are names of scripts that usually keep running, the best ones first.
var usualServices = []string{
	"dev", "start", "serve", "server", "develop", "start:dev", "dev:server", "server:dev", "start:server", "worker",
	"start:worker", "web", "api", "watch",
}

// isServiceName reports whether a script of that name usually keeps running.
func isServiceName(name string) bool {
	first, _, _ := strings.Cut(name, ":")
	return slices.Contains(usualServices, name) || slices.Contains([]string{"dev", "start", "serve"}, first)
}

var keepsRunning = lazyregexp.New(
	`\.listen\(|createServer\(|\bserve\(|fastify\(|express\(|new Hono|new Koa|setInterval\(|\.consume\(|new Worker\(|` +
		`NestFactory|Bun\.serve|Deno\.serve`,
)

// services adds the scripts that keep running: one for each program.
func (w *workspace) services(p *member) {
	type program struct{ by, entry string }
	chosen := map[program]*script{}
	var order []program
	for _, s := range byUse(p.order) {
		if s.role != asServer && s.role != asReloader || p.isHook(s) {
			continue
		}
		if !isServiceName(s.name) && s.role == asServer && !w.listens(p, s) {
			continue // a script that ends
		}
		key := program{entry: s.entry}
		if s.entry == "" {
			key.by = s.main.Program
		}
		if p.holds && w.membersHave(p, s.name) && s.entry == "" {
			w.Leave("%s: the script %q: the packages have it", s.at, s.name)
			continue
		}
		before := chosen[key]
		switch {
		case before == nil:
			order = append(order, key)
			chosen[key] = s
		case s.role == asServer && len(s.once) == 0 && before.role != asReloader &&
			(len(before.once) > 0 || before.maybe):
			w.Leave(
				"%s: the script %q runs the program of %q, and repeats that by itself",
				before.at,
				before.name,
				s.name,
			)
			chosen[key] = s
		default:
			w.Leave("%s: the script %q runs the program of %q", s.at, s.name, before.name)
		}
	}
	for i, key := range order {
		w.addProgram(p, chosen[key], i == 0)
	}
	for _, s := range p.order {
		if f, is := project.ForeignOf(s.text); is && s.role == asUnknown {
			w.addForeign(p, s, f)
		}
	}
}

// addForeign adds a script that runs a database or the like. Nothing restarts it except an edit of what it uses.
func (w *workspace) addForeign(p *member, s *script, f project.Foreign) {
	s.role = asServer
	u := w.unit(p, s)
	u.Kind, u.Name, u.Port, u.Sure = plan.Service, project.Named(p.dir, s.name), f.Port, f.Port != 0
	if len(w.EnvFiles) > 0 {
		u.Uses = append([]string{}, f.Uses...)
	}
	w.Add(u)
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
func (w *workspace) source(p *member, entry string) string {
	if entry == "." {
		entry = p.Main
	}
	stem := strings.TrimSuffix(path.Base(entry), path.Ext(entry))
	for _, name := range []string{entry, entry + ".js", entry + ".ts", entry + "/index.js", entry + "/index.ts",
		"src/" + stem + ".ts", "src/" + stem + ".js"} { // the last two: what a compiler has it from
		if text := w.Read(path.Join(p.dir, name)); name != "" && text != "" {
			return text
		}
	}
	return ""
}

// listens reports whether what a script runs seems to keep running.
func (w *workspace) listens(p *member, s *script) bool {
	return keepsRunning.MatchString(w.source(p, s.entry))
}

func (w *workspace) addProgram(p *member, s *script, only bool) {
	u := w.unit(p, s)
	u.Kind, u.Name = plan.Service, project.Named(p.dir, s.name)
	if b := project.Base(p.dir); b != "" && only {
		u.Name = b
	}
	source := w.source(p, s.entry)
	u.Port = project.PortOf(strings.Join(s.main.Env, " ") + " " + s.text + "\n" + source)
	u.Sure = u.Port != 0
	if strings.Contains(source, "env.PORT") {
		if port := w.EnvPort(p.dir); port != 0 {
			u.Port = port
		}
	}
	switch {
	case s.role == asReloader:
		u.Guess, u.Sure = "it picks up changes by itself, so nothing restarts it", false
		if u.Port == 0 {
			u.Port = w.usualPort(p, s.main.Program)
			u.Sure = u.Port != 0
		}
	default:
		general := p.sources(nil)
		u.Watch, u.Ignore, u.Without = general, append(p.made(nil), project.In(p.dir, "**/*.{test,spec}.*")...), general
		w.linkProgram(p, s, &u)
		if (s.maybe || source != "" && !keepsRunning.MatchString(source)) && !w.usesServer(p) {
			u.Kind, u.MayServe, u.Guess = plan.Task, true, "it may end, or keep running"
			u.Sure = false
		} else if u.Guess == "" {
			u.Guess = "it keeps running"
		}
	}
	if s.main.Program == "electron" || project.IsExample(s.entry) {
		u.Manual = true
	}
	w.AddService(u, path.Join(p.dir, s.entry))
}

// usualPort is the port of a server for development without other settings; 0: it is unknown, or its settings may say
// another one.
func (w *workspace) usualPort(p *member, program string) int {
	for _, ending := range []string{"js", "mjs", "cjs", "ts", "mts", "cts"} {
		if strings.Contains(w.Read(path.Join(p.dir, program+".config."+ending)), "port:") {
			return 0
		}
	}
	return tools[program].port
}

// linkProgram records what a program runs. If its script compiles that first, and another unit does so anyway, only its
// last command is run.
func (w *workspace) linkProgram(p *member, s *script, u *project.Unit) {
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
	if path.Ext(entry) == "" && w.Has(entry) {
		u.Watch = append(slices.Clone(u.Watch), project.In(".", entry)...)
	}
	made := slices.ContainsFunc(w.Units, func(o project.Unit) bool {
		return slices.ContainsFunc(o.Makes, func(m string) bool { return strings.HasPrefix(entry, m+"/") })
	})
	switch {
	case len(s.makes) == 0:
		u.Runs = []string{entry}
	case made && len(s.once) == 0:
		u.Runs = []string{entry}
		w.withoutCompiling(p, s, u)
	}
}

// withoutCompiling lets a unit run a script without the commands that another unit does: two compilers that write the
// same files at the same time leave one of two states. A unit for which that is not possible runs only when asked for.
func (w *workspace) withoutCompiling(p *member, s *script, u *project.Unit) {
	var made []string // by other units
	for _, o := range w.Units {
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
		of := w.judged(p, &script{name: s.name, text: step, commands: project.CommandsOf(step)}, nil)
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
	if up := strings.TrimPrefix(p.dir, w.setupDir()+"/"); up != p.dir {
		bin += ":" + strings.Repeat("../", strings.Count(up, "/")+1) + bin
	}
	plain := func(step string) bool { return referred(project.CommandsOf(step)[0]) == "" }
	if u.Run = strings.Join(rest, " && "); !slices.ContainsFunc(rest, plain) {
		return
	}
	u.Run = "export PATH=\"" + bin + ":$PATH\"; " + u.Run
}

// setupDir is the directory with the packages that are installed.
func (w *workspace) setupDir() string { return w.packages[0].dir }

var servers = []string{
	"express", "fastify", "koa", "hapi", "@hapi/hapi", "@nestjs/core", "hono", "restify", "socket.io", "ws", "bullmq",
	"bull", "amqplib", "kafkajs", "next", "polka", "micro", "apollo-server", "@apollo/server",
}

func (w *workspace) usesServer(p *member) bool {
	return slices.ContainsFunc(servers, func(name string) bool { _, uses := p.Dependencies[name]; return uses })
}
