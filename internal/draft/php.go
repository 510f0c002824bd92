package draft

import (
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

var (
	phpRequires = lazyregexp.New(`"require(?:-dev)?"\s*:`)
	phpScripts  = []string{"public", "web", "htdocs"}
)

// readPHP finds the tests and servers of PHP projects. PHP reads the code for each request, so its servers need no
// restart.
func readPHP(p *project.Project) {
	for _, dir := range p.Places("composer.json") {
		file := path.Join(dir, "composer.json")
		text := p.Read(file)
		from := project.AtMatch(file, text, phpRequires)
		setup := &project.Step{
			Run:     "composer install --no-interaction",
			Dir:     dir,
			Inputs:  p.Existing(dir, "composer.json", "composer.lock"),
			Outputs: project.In(dir, "vendor/autoload.php"),
		}
		hasIndex := func(sub string) bool { return p.Has(path.Join(dir, sub, "index.php")) }
		u := project.Unit{
			Kind:    plan.Service,
			Name:    project.Named(dir, "web"),
			Dir:     project.AsDir(dir),
			Setup:   setup,
			Listens: project.Listens{Port: 8000, Sure: true},
			Guess:   "it reads the code for each request, so nothing restarts it",
		}
		if p.Has(path.Join(dir, "artisan")) {
			u.From, u.Run = project.At(path.Join(dir, "artisan"), "", 0), "php artisan serve --port 8000"
			p.AddService(u, u.From)
		} else if i := slices.IndexFunc(phpScripts, hasIndex); i >= 0 {
			u.From = project.At(path.Join(dir, phpScripts[i], "index.php"), "", 0)
			u.Run = "php -S 127.0.0.1:8000 -t " + phpScripts[i]
			p.AddService(u, u.From)
		}
		check := func(kind plan.Kind, name, tool, run string) {
			p.Add(
				project.Unit{
					Kind:  kind,
					Name:  project.Named(dir, name),
					Dir:   project.AsDir(dir),
					Setup: setup,
					From:  from + ": " + tool,
					Run:   run,
					Watch: append(
						project.In(dir, "**/*.php"),
						p.Existing(dir, "phpunit.xml", "phpunit.xml.dist", "phpstan.neon")...),
					Ignore: project.In(dir, "vendor/**"),
				},
			)
		}
		if strings.Contains(text, "phpunit/phpunit") {
			check(plan.Suite, "test", "phpunit/phpunit", "vendor/bin/phpunit")
		}
		if strings.Contains(text, "phpstan/phpstan") && p.FirstIn(dir, "phpstan.neon", "phpstan.neon.dist") != "" {
			check(plan.Task, "phpstan", "phpstan/phpstan", "vendor/bin/phpstan analyse --no-progress")
		}
	}
}
