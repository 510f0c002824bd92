package draft

import (
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"

	"github.com/pelletier/go-toml/v2"

	"omnivigil/internal/draft/project"
	"omnivigil/internal/plan"
	"omnivigil/internal/text/format"
	"omnivigil/internal/text/lazyregexp"
)

var pythonManifests = []string{"pyproject.toml", "requirements.txt", "setup.py", "setup.cfg", "Pipfile", "manage.py"}

// python is a Python project.
type python struct {
	*project.Project
	dir      string
	manifest string
	said     string   // the text of all manifests
	prefix   string   // of commands in the project's environment
	scripts  []string // all sources except tests
	tests    []string
	setup    *project.Step
}

// readPython finds Python projects: by their manifests, and in the project's directory also without one.
func readPython(p *project.Project) {
	dirs := p.Places(pythonManifests...)
	if len(dirs) == 0 {
		dirs = []string{"."}
	}
	for _, dir := range dirs {
		y := &python{Project: p, dir: dir, manifest: p.FirstIn(dir, pythonManifests...)}
		y.read()
		if y.manifest == "" && len(y.scripts)+len(y.tests) == 0 {
			continue
		}
		y.environment()
		y.servers()
		y.suite()
		y.checkers()
	}
}

// installed are files that installing the project itself writes.
const installed = "**/*.egg-info/**"

// data returns patterns for the directories of templates and static files, which web frameworks read.
func (y *python) data() []string {
	var patterns []string
	y.Files(y.dir, func(name string) {
		for _, element := range strings.Split(path.Dir(name), "/") {
			pattern := project.In(y.dir, "**/"+element+"/**")[0]
			if (element == "templates" || element == "static") && !slices.Contains(patterns, pattern) {
				patterns = append(patterns, pattern)
			}
		}
	}, ".html", ".css", ".js", ".xml", ".txt")
	slices.Sort(patterns)
	return patterns
}

func (y *python) read() {
	y.Files(y.dir, func(name string) {
		if base := path.Base(name); strings.HasPrefix(base, "test_") || strings.HasSuffix(base, "_test.py") {
			y.tests = append(y.tests, name)
		} else if base != "setup.py" && base != "conftest.py" && !strings.HasPrefix(base, "noxfile") {
			y.scripts = append(y.scripts, name)
		}
	}, ".py")
	for _, name := range []string{"pyproject.toml", "requirements.txt", "requirements-dev.txt", "dev-requirements.txt",
		"setup.cfg", "setup.py", "Pipfile"} {
		y.said += y.Project.Read(path.Join(y.dir, name))
	}
	if y.manifest == "" { // without a manifest, only what is in the directory itself, and its tests
		y.scripts = slices.DeleteFunc(y.scripts, func(s string) bool { return path.Dir(s) != y.dir })
		y.tests = slices.DeleteFunc(y.tests, func(s string) bool {
			return !slices.Contains([]string{".", "test", "tests"}, path.Dir(s))
		})
	}
}

// environment finds out in which environment commands run, and what installs it.
func (y *python) environment() {
	has := func(name string) bool { return y.Has(path.Join(y.dir, name)) }
	y.setup = &project.Step{Dir: y.dir, Outputs: project.In(y.dir, ".venv")}
	install := func(run string, inputs ...string) {
		y.setup.Run, y.setup.Inputs = run, y.Existing(y.dir, inputs...)
	}
	switch {
	case has("uv.lock") || strings.Contains(y.said, "[tool.uv"):
		y.prefix = "uv run "
		install("uv sync --all-packages", "pyproject.toml", "uv.lock")
		if !strings.Contains(y.said, "[tool.uv.workspace") {
			y.setup.Run = "uv sync"
		}
		return
	case has("poetry.lock") || strings.Contains(y.said, "[tool.poetry]"):
		y.prefix = "poetry run "
		install("poetry install", "pyproject.toml", "poetry.lock")
		y.setup.Outputs = nil
		return
	case has("Pipfile"):
		y.prefix = "pipenv run "
		install("pipenv sync --dev", "Pipfile", "Pipfile.lock")
		y.setup.Outputs = nil
		return
	}
	y.virtual()
}

// forTests are the usual files of what tests need; only the first one is installed.
var forTests = []string{
	"requirements-test.txt", "requirements-tests.txt", "test-requirements.txt", "requirements/tests.txt",
	"requirements/test.txt", "requirements-dev.txt", "dev-requirements.txt", "requirements/dev.txt",
}

// virtual lets commands run in an environment in the project's directory, made by pip.
func (y *python) virtual() {
	var from, inputs []string
	add := func(file string) {
		if file != "" {
			name := strings.TrimPrefix(file, y.dir+"/")
			from, inputs = append(from, "-r", name), append(inputs, name)
			y.said += y.Project.Read(file)
		}
	}
	extra := ""
	add(y.FirstIn(y.dir, "requirements.txt"))
	if len(from) == 0 && pythonPackage.MatchString(y.said) {
		extra = y.testExtra()
		from, inputs = []string{"-e", "." + extra}, []string{"pyproject.toml", "setup.py", "setup.cfg"}
	}
	tests := y.FirstIn(y.dir, forTests...)
	add(tests)
	if len(from) == 0 {
		y.setup = nil
		return
	}
	if y.usesPytest() && extra == "" && !y.lists("pytest") {
		from = append(from, "pytest")
	}
	y.prefix = ".venv/bin/"
	y.setup.Run = "python3 -m venv .venv && .venv/bin/pip install -q " + format.Typed(from)
	y.setup.Inputs = y.Existing(y.dir, inputs...)
}

var pythonPackage = lazyregexp.New(`(?m)^\[project\]|^\[build-system\]|\bsetup\(|^\[metadata\]`)

// testExtra returns the optional dependencies for tests, as pip expects them.
func (y *python) testExtra() string {
	var m struct {
		Project struct {
			Optional map[string]any `toml:"optional-dependencies"`
		}
	}
	toml.Unmarshal([]byte(y.Project.Read(path.Join(y.dir, "pyproject.toml"))), &m)
	for _, name := range []string{"test", "tests", "testing", "dev"} {
		if _, has := m.Project.Optional[name]; has {
			return "[" + name + "]"
		}
	}
	return ""
}

// command returns the line that runs a module of the project's environment.
func (y *python) command(module string) string {
	if y.prefix == "" {
		return "python3 -m " + module
	}
	return y.prefix + "python -m " + module
}

var (
	pythonApp      = lazyregexp.New(`(?m)^(\w+)(?:\s*:\s*\w+)?\s*=\s*(FastAPI|Starlette|Flask|Litestar|Quart|Sanic)\(`)
	pythonMaker    = lazyregexp.New(`(?m)^def (create_app|make_app)\(`)
	pythonTest     = lazyregexp.New(`(?m)^\s*(?:async )?def test|^class |^`)
	djangoSettings = lazyregexp.New(`DJANGO_SETTINGS_MODULE`)
	pythonWorker   = lazyregexp.New(`(?m)^(\w+)\s*=\s*Celery\(`)
	pythonServes   = lazyregexp.New(
		`serve_forever|HTTPServer|socketserver|asyncio\.start_server|\.run_forever\(|\brun_server\(`,
	)
	pythonMain = lazyregexp.New(`__name__\s*==\s*['"]__main__['"]|serve_forever\(`)
)

// module returns the name by which a source is imported, and whether that works from the project's directory.
func (y *python) module(file string) string {
	rel := strings.TrimPrefix(strings.TrimPrefix(file, y.dir+"/"), "src/")
	rel = strings.TrimSuffix(strings.TrimSuffix(rel, ".py"), "/__init__")
	return strings.ReplaceAll(rel, "/", ".")
}

// usualSources are the names of sources that hold the application of a package.
var usualSources = []string{"app.py", "main.py", "core.py", "server.py", "wsgi.py", "asgi.py", "api.py", "__init__.py"}

// servers adds programs that serve, by what their sources say. A server that could reload itself is started without
// that, so that each restart is known. Of several applications in a package, the usual one starts.
func (y *python) servers() {
	usual := map[string]string{} // by directory
	for _, file := range y.scripts {
		if slices.Contains(usualSources, path.Base(file)) && pythonApp.MatchString(y.Project.Read(file)) {
			usual[path.Dir(file)] = file
		}
	}
	for _, file := range y.scripts {
		elements := strings.Split(file, "/")
		if slices.Contains(elements, "tests") || slices.Contains(elements, "test") {
			continue
		}
		text := y.Project.Read(file)
		u, serves := y.server(file, text)
		if !serves {
			continue
		}
		if other := usual[path.Dir(file)]; other != "" && other != file && !u.Manual && pythonApp.MatchString(text) {
			u.Manual, u.Guess = true, "the application of the package is in "+path.Base(other)
		}
		y.AddService(u, file)
	}
}

// server returns the unit of a source that serves.
func (y *python) server(file, text string) (u project.Unit, serves bool) {
	u = project.Unit{
		Kind:   plan.Service,
		Name:   project.Named(y.dir, strings.TrimSuffix(path.Base(file), ".py")),
		Dir:    project.AsDir(y.dir),
		Setup:  y.setup,
		Watch:  append(project.In(y.dir, "**/*.py", "**/*.{html,jinja,jinja2,j2}"), y.data()...),
		Ignore: project.In(y.dir, "**/test_*.py", "**/*_test.py", "**/.*/**", installed),
		Manual: project.IsExample(file),
	}
	u.Port = project.PortOf(text)
	u.Sure = u.Port != 0
	module := y.module(file)
	if slices.Contains(usualSources, path.Base(file)) && strings.Contains(module, ".") {
		u.Name = project.Named(y.dir, strings.Split(module, ".")[0])
	}
	switch app := pythonApp.FindStringSubmatchIndex(text); {
	case path.Base(file) == "manage.py" && djangoSettings.MatchString(text):
		u.Name, u.Port, u.Sure = project.Named(y.dir, "server"), 8000, true
		u.From = project.AtMatch(file, text, djangoSettings) + ": Django"
		u.Run, u.Guess = y.python("manage.py runserver --noreload 8000"), "without its own reloading"
	case app != nil:
		name, framework := text[app[2]:app[3]], text[app[4]:app[5]]
		u.From = fmt.Sprintf("%s: %s = %s(...)", project.At(file, text, app[0]), name, framework)
		y.serveApp(&u, module+":"+name, framework)
	case strings.Contains(text, "Flask(") && pythonMaker.MatchString(text):
		u.From = project.AtMatch(file, text, pythonMaker) + ": it makes an application"
		y.serveApp(&u, module+":"+pythonMaker.FindStringSubmatch(text)[1], "Flask")
	case pythonWorker.MatchString(text):
		u.From = project.AtMatch(file, text, pythonWorker) + ": Celery"
		u.Name, u.Port = project.Named(y.dir, "worker"), 0
		u.Run = y.command("celery -A " + format.Quoted(module) + " worker")
		u.Manual, u.Guess = true, "it needs a broker, so it runs only when asked for"
	case pythonServes.MatchString(text) && pythonMain.MatchString(text):
		u.From, u.Guess = project.AtMatch(file, text, pythonServes)+": it serves", "it keeps running"
		u.Run = y.python(format.Quoted(strings.TrimPrefix(file, y.dir+"/")))
	default:
		return u, false
	}
	return u, true
}

// python returns the line that runs a script.
func (y *python) python(rest string) string {
	if y.prefix == "" {
		return "python3 " + rest
	}
	return y.prefix + "python " + rest
}

// serveApp lets the usual server of a framework run an application.
func (y *python) serveApp(u *project.Unit, app, framework string) {
	if u.Port == 0 && !u.Manual {
		for u.Port = 8000; y.Ports[u.Port] != ""; u.Port++ {
		}
	} else if u.Port == 0 {
		u.Port = 8000
	}
	port := fmt.Sprint(u.Port)
	u.Sure = true
	switch framework {
	case "Flask":
		u.Run = y.command("flask --app " + format.Quoted(app) + " run --port " + port)
	case "Sanic":
		u.Run = y.command("sanic " + format.Quoted(app) + " --port " + port)
	default:
		u.Run = y.command("uvicorn " + format.Quoted(app) + " --port " + port)
	}
}

func (y *python) usesPytest() bool {
	return strings.Contains(y.said, "pytest") ||
		y.FirstIn(y.dir, "pytest.ini", "conftest.py", "tests/conftest.py", "test/conftest.py") != ""
}

// suite adds the tests.
func (y *python) suite() {
	if len(y.tests) == 0 {
		return
	}
	u := project.Unit{
		Kind:  plan.Suite,
		Name:  project.Named(y.dir, "test"),
		Dir:   project.AsDir(y.dir),
		Setup: y.setup,
		From:  project.AtMatch(y.tests[0], y.Project.Read(y.tests[0]), pythonTest) + " and its like",
		Watch: slices.Concat(
			project.In(y.dir, "**/*.py"), y.data(),
			y.Existing(y.dir, "pyproject.toml", "pytest.ini", "setup.cfg", "tox.ini"),
		),
		Ignore: project.In(y.dir, "**/.*/**", installed),
	}
	dir := strings.TrimPrefix(path.Dir(y.tests[0]), y.dir+"/")
	switch {
	case y.FirstIn(y.dir, "manage.py") != "" && strings.Contains(y.said, "jango") && !y.usesPytest():
		u.Run, u.From = y.python("manage.py test"), u.From+", and manage.py"
	case y.usesPytest():
		u.Run = y.command("pytest")
		u.From += ", and " + y.mention("pytest")
	case dir != "." && dir != y.dir && !y.Has(path.Join(path.Dir(y.tests[0]), "__init__.py")):
		u.Run = y.command("unittest discover -s " + format.Quoted(dir))
	default:
		u.Run = y.command("unittest")
	}
	y.Add(u)
}

// mention returns where a manifest mentions a tool.
func (y *python) mention(tool string) string {
	others := []string{"requirements-dev.txt", "tox.ini", "pytest.ini", "mypy.ini", "ruff.toml",
		"conftest.py", "tests/conftest.py"}
	for _, name := range slices.Concat(pythonManifests, others) {
		file := path.Join(y.dir, name)
		text := y.Project.Read(file)
		if i := strings.Index(text, tool); i >= 0 {
			return project.At(file, text, i)
		}
	}
	return tool
}

// checkers adds the type checker and the linter that the project has settings for.
func (y *python) checkers() {
	target := "."
	if y.Has(path.Join(y.dir, "src")) {
		target = "src"
	}
	add := func(name, run string) {
		y.Add(
			project.Unit{
				Kind:  plan.Task,
				Name:  project.Named(y.dir, name),
				Dir:   project.AsDir(y.dir),
				Setup: y.setup,
				From:  y.mention(name),
				Run:   run,
				Watch: append(
					project.In(y.dir, "**/*.{py,pyi}"),
					y.Existing(y.dir, "pyproject.toml", "mypy.ini", "ruff.toml", ".ruff.toml")...),
				Ignore: project.In(y.dir, "**/.*/**"),
			},
		)
	}
	settings := func(name string, files ...string) bool {
		return strings.Contains(y.said, "[tool."+name) || strings.Contains(y.said, "["+name+"]") ||
			y.FirstIn(y.dir, files...) != ""
	}
	for _, tool := range []struct {
		name, run string
		files     []string
	}{
		{"mypy", "mypy " + target, []string{"mypy.ini", ".mypy.ini"}},
		{"ruff", "ruff check " + target, []string{"ruff.toml", ".ruff.toml"}},
	} {
		switch {
		case !settings(tool.name, tool.files...):
		case y.prefix != "" && !y.lists(tool.name):
			y.Leave("%s: %s has settings, but is not among the dependencies", y.mention(tool.name), tool.name)
		default:
			add(tool.name, y.command(tool.run))
		}
	}
}

// lists reports whether a package is among the dependencies.
func (y *python) lists(name string) bool {
	return regexp.MustCompile(`(?m)(?:^|["'\s])` + name + `\s*(?:$|["'=<>~!\[;,])`).MatchString(y.said)
}
