package draft

import (
	"path"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

var (
	rubyRails   = lazyregexp.New(`(?m)^\s*gem ["']rails["']`)
	rubyTests   = lazyregexp.New(`Rake::TestTask|Minitest::TestTask`)
	rubyWorker  = lazyregexp.New(`(?m)^\s*gem ["'](sidekiq)["']`)
	rubyServer  = lazyregexp.New(`Sinatra::Base|require ["']sinatra["']|TCPServer\.new|WEBrick::HTTPServer`)
	rubyWebrick = lazyregexp.New(`TCPServer\.new|WEBrick::HTTPServer`)
	rubyGems    = lazyregexp.New(`(?m)^\s*(?:gem|source|gemspec)\b`)
)

// readRuby finds the servers and tests of Ruby projects.
func readRuby(p *project.Project) {
	for _, dir := range p.Places("Gemfile") {
		r := &ruby{Project: p, dir: dir, gems: p.Read(path.Join(dir, "Gemfile"))}
		r.gemfile = project.AtMatch(path.Join(dir, "Gemfile"), r.gems, rubyGems)
		r.lock = p.Read(path.Join(dir, "Gemfile.lock"))
		for _, spec := range p.GlobFiles(path.Join(dir, "*.gemspec")) {
			r.gems += "\n" + p.Read(spec)
		}
		r.setup = &project.Step{Run: "bundle install", Dir: dir, Inputs: p.Existing(dir, "Gemfile", "Gemfile.lock")}
		r.servers()
		r.tests()
		if p.Has(path.Join(dir, ".rubocop.yml")) && strings.Contains(r.gems+r.lock, "rubocop") {
			r.unit(plan.Task, "rubocop", path.Join(dir, ".rubocop.yml"), "bundle exec rubocop")
		}
	}
}

// ruby is a Ruby project.
type ruby struct {
	*project.Project
	dir, gems, lock, gemfile string
	setup                    *project.Step
}

// unit adds a unit that reads all sources.
func (r *ruby) unit(kind plan.Kind, name, from, run string) {
	r.Add(
		project.Unit{
			Kind:  kind,
			Name:  project.Named(r.dir, name),
			Dir:   project.AsDir(r.dir),
			From:  from,
			Run:   run,
			Setup: r.setup,
			Watch: append(
				project.In(r.dir, "**/*.{rb,rake,ru,erb}"),
				r.Existing(r.dir, "Gemfile.lock")...),
			Ignore: project.In(r.dir, "vendor/**", "tmp/**"),
		},
	)
}

func (r *ruby) servers() {
	u := project.Unit{
		Kind:    plan.Service,
		Dir:     project.AsDir(r.dir),
		Setup:   r.setup,
		Listens: project.Listens{Sure: true},
		Ignore:  project.In(r.dir, "**/*_spec.rb", "**/*_test.rb", "vendor/**"),
		Watch:   append(project.In(r.dir, "**/*.{rb,ru}"), r.Existing(r.dir, "Gemfile.lock")...),
	}
	switch {
	case rubyRails.MatchString(r.gems) && r.Has(path.Join(r.dir, "config/application.rb")):
		u.Name, u.Port = project.Named(r.dir, "server"), 3000
		u.From = project.AtMatch(path.Join(r.dir, "Gemfile"), r.gems, rubyRails)
		u.Run = "bundle exec rails server -p 3000"
		u.Guess = "it reads most of its code again by itself, but not its settings"
		u.Watch = append(project.In(r.dir, "config/**/*.{rb,yml}", "lib/**/*.rb"), r.Existing(r.dir, "Gemfile.lock")...)
		r.Add(u)
	case r.Has(path.Join(r.dir, "config.ru")):
		u.Name, u.Port = project.Named(r.dir, "web"), 9292
		u.From = project.At(path.Join(r.dir, "config.ru"), "", 0)
		u.Run, u.Guess = "bundle exec rackup -p 9292", "it keeps running"
		r.AddService(u, u.From)
	default:
		for _, file := range r.GlobFiles(path.Join(r.dir, "*.rb")) {
			text := r.Read(file)
			if !rubyServer.MatchString(text) {
				continue
			}
			u.Name = project.Named(r.dir, strings.TrimSuffix(path.Base(file), ".rb"))
			u.From = project.AtMatch(file, text, rubyServer) + ": it serves"
			if u.Port = project.PortOf(text); u.Port == 0 && !rubyWebrick.MatchString(text) {
				u.Port = 4567
			}
			u.Sure, u.Guess = u.Port != 0, "it keeps running"
			u.Run = "bundle exec ruby " + path.Base(file)
			r.AddService(u, file)
		}
	}
	if m := rubyWorker.FindStringSubmatch(r.gems); m != nil {
		u.Name, u.Port, u.Run = project.Named(r.dir, "worker"), 0, "bundle exec "+m[1]
		u.From = project.AtMatch(path.Join(r.dir, "Gemfile"), r.gems, rubyWorker)
		u.Manual, u.Guess = true, "it needs a broker, so it runs only when asked for"
		r.Add(u)
	}
}

func (r *ruby) tests() {
	spec, test := r.Has(path.Join(r.dir, "spec")), r.Has(path.Join(r.dir, "test"))
	rakefile := path.Join(r.dir, "Rakefile")
	switch rake := r.Read(rakefile); {
	case spec && strings.Contains(r.gems+r.lock, "rspec"):
		r.unit(plan.Suite, "test", r.gemfile+", and spec/", "bundle exec rspec")
	case test && r.Has(path.Join(r.dir, "bin/rails")):
		r.unit(plan.Suite, "test", path.Join(r.dir, "bin/rails")+", and test/", "bundle exec rails test")
	case rubyTests.MatchString(rake):
		r.unit(plan.Suite, "test", project.AtMatch(rakefile, rake, rubyTests), "bundle exec rake test")
	}
}
