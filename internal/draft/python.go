package draft

import (
	"path"
	"strings"

	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/lazyregexp"
)

var pythonServes = lazyregexp.New(`serve_forever|HTTPServer|socketserver|asyncio\.start_server`)

// readPython finds a Python project's tests and servers.
func readPython(p *project) {
	manifest := p.first("pyproject.toml", "requirements.txt", "setup.py", "setup.cfg", "Pipfile", "manage.py")
	var scripts, tests []string
	p.files(func(name string) {
		if base := path.Base(name); strings.HasPrefix(base, "test_") || strings.HasSuffix(base, "_test.py") {
			tests = append(tests, name)
		} else if path.Dir(name) == "." {
			scripts = append(scripts, name)
		}
	}, ".py")
	if manifest == "" && len(scripts)+len(tests) == 0 {
		return
	}
	said := p.read(
		"pyproject.toml",
	) + p.read(
		"requirements.txt",
	) + p.read(
		"requirements-dev.txt",
	) + p.read(
		"setup.cfg",
	) + p.read(
		"Pipfile",
	)
	python := "python3"
	switch {
	case p.has("uv.lock"):
		python = "uv run python"
	case p.has("poetry.lock"):
		python = "poetry run python"
	case p.has(".venv/bin/python"):
		python = ".venv/bin/python"
	}
	sources := []string{"**/*.py"}
	for _, script := range scripts {
		text, stem := p.read(script), strings.TrimSuffix(script, ".py")
		u := unit{
			kind:   plan.Service,
			name:   stem,
			from:   script,
			watch:  sources,
			ignore: []string{"**/test_*.py", "**/*_test.py"},
			port:   portOf(text),
		}
		switch {
		case script == "manage.py":
			u.name, u.run, u.port = "server", python+" manage.py runserver --noreload", 8000
		case strings.Contains(text, "FastAPI(") || strings.Contains(text, "Starlette("):
			u.run, u.guess = python+" -m uvicorn "+format.Quoted(stem+":app"), "its application is called app"
		case strings.Contains(text, "Flask("):
			u.run, u.guess = python+" -m flask --app "+format.Quoted(stem)+" run", "it is started by flask"
		case pythonServes.MatchString(text):
			u.run, u.guess = python+" "+format.Quoted(script), "it serves, so it keeps running"
		default:
			continue
		}
		p.add(u)
	}
	if len(tests) == 0 {
		return
	}
	u := unit{
		kind:  plan.Suite,
		name:  "test",
		watch: append(sources, "pyproject.toml"),
		run:   python + " -m unittest",
		from:  tests[0] + " and its like",
	}
	if !p.has("pyproject.toml") {
		u.watch = sources
	}
	switch {
	case strings.Contains(said, "pytest") || p.first("pytest.ini", "conftest.py", "tests/conftest.py") != "":
		u.run, u.from = python+" -m pytest", p.first(
			"pytest.ini",
			"conftest.py",
			"tests/conftest.py",
			manifest,
		)+", which speaks of pytest"
	case path.Dir(tests[0]) != "." && !p.has(path.Join(path.Dir(tests[0]), "__init__.py")):
		u.run = python + " -m unittest discover -s " + format.Quoted(path.Dir(tests[0]))
	}
	if manifest == "requirements.txt" {
		u.guess = "packages are installed already; else: setup = [{ run = \"pip install -r requirements.txt\", " +
			"inputs = [\"requirements.txt\"] }]"
	}
	p.add(u)
}
