package node

import (
	"path"
	"slices"
	"strings"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/lazyregexp"
)

var otherTests = lazyregexp.New(`cov|watch|debug|ci$|update|snap|only|bench|perf|:once`)

var needsMore = lazyregexp.New(`e2e|integration|browser|visual|acceptance|smoke|system`)

var checkNames = lazyregexp.New(`(?i)lint|type|check|format|fmt|style|prettier|eslint|standard|unused|spell`)

// tests adds the suites of a package: its script "test" or, without that, all its other test scripts.
func (w *workspace) tests(p *member) {
	main := p.scripts["test"]
	whole := main != nil && main.role == asTests
	for _, s := range p.order {
		if s.role != asTests && !(s == main && s.role == asUnknown) || p.isHook(s) {
			if s.role == asCombination && strings.HasPrefix(s.name, "test") {
				w.Leave("%s: the script %q %s", s.at, s.name, s.why)
			}
			continue
		}
		if strings.Contains(s.text, "no test specified") || s == main && len(s.commands) == 0 {
			continue
		}
		slow := s.slow || needsMore.MatchString(s.name)
		switch {
		case s != main && p.isCalledBy(s, asTests) && (!main.isSlow() || slow):
			w.Leave("%s: the script %q is a part of another one", s.at, s.name)
			continue
		case s != main && (whole && !slow && !main.isSlow() || otherTests.MatchString(s.name)):
			w.Leave("%s: the script %q: another form of the tests", s.at, s.name)
			continue
		case p.holds && s == main && len(s.commands) == 1 && s.role == asUnknown && w.membersHave(p, "test"):
			w.Leave("%s: the script %q: the packages have it", s.at, s.name)
			continue
		}
		u := w.unit(p, s)
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
			w.withoutCompiling(p, s, &u)
		}
		w.Add(u)
	}
}

// isSlow reports whether a script, if there is one, needs more than the package.
func (s *script) isSlow() bool { return s != nil && s.slow }

// checks adds linters and type checkers.
func (w *workspace) checks(p *member) {
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
			w.Leave("%s: the script %q: its name says something else than its commands", s.at, s.name)
		case other != nil && len(s.calls) == 0:
			w.Leave("%s: the script %q does the work of %q", s.at, s.name, other.name)
		case s.main.Program == "tsc" && compiles:
			w.Leave("%s: the script %q: the compiler reports the same", s.at, s.name)
		case p.isCalledBy(s, asCheck) || p.isCalledBy(s, asTests):
			w.Leave("%s: the script %q is a part of another one", s.at, s.name)
		case p.holds && w.membersHave(p, s.name) && s.main.Program == "":
			w.Leave("%s: the script %q: the packages have it", s.at, s.name)
		default:
			u := w.unit(p, s)
			u.Kind, u.Name, u.Watch, u.Ignore = plan.Task, project.Named(p.dir, s.name), p.sources(nil), p.made(nil)
			if s.main.Program == "prettier" || s.main.Program == "standard" {
				u.Watch = project.In(p.dir, strings.Replace(webSources, "graphql", "graphql,md,yml,yaml", 1))
			}
			w.Add(u)
			chosen[s.main.Program] = s
		}
	}
}
