package draft

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
)

// drafted makes a project of files, drafts it, and returns the plan of the draft.
func drafted(t testing.TB, files map[string]string) (*plan.Plan, Draft) {
	t.Helper()
	dir := t.TempDir()
	for name, text := range files {
		file := filepath.Join(dir, name)
		require.NoError(t, os.MkdirAll(filepath.Dir(file), 0o755))
		require.NoError(t, os.WriteFile(file, []byte(text), 0o644))
	}
	d, err := Of(dir)
	require.NoError(t, err)
	file := filepath.Join(dir, plan.FileName)
	require.NoError(t, os.WriteFile(file, []byte(d.Text), 0o644))
	p, err := settings.Read(file)
	require.NoError(t, err, d.Text)
	return p, d
}

// runs are the commands of a plan, by kind and name.
func runs(p *plan.Plan) map[string]string {
	all := map[string]string{}
	for _, u := range p.Units {
		all[u.Kind.String()+" "+u.Name] = u.Run.String()
	}
	return all
}

func TestDrafts(t *testing.T) {
	for name, test := range map[string]struct {
		files map[string]string
		want  map[string]string
	}{
		"a module": {map[string]string{
			"go.mod": "module saltmarsh/ferry\n", "main.go": "package main\n" +
				"func main() { http.ListenAndServe(\":4102\", nil) }",
			"tools/fares/main.go": "package main\nfunc main() {}", "tides.go": "package ferry",
			"x_test.go":            "package main",
			"vendor/other/main.go": "package main", ".hidden/main.go": "package main",
		}, map[string]string{"service ferry": "go run .", "task fares": "go run ./tools/fares",
			"suite test": "go test ./..."}},
		"a package": {map[string]string{
			"package.json": `{"scripts":{"dev":"vite","build":"vite build","test":"echo \"Error: no test ` +
				`specified\" && exit 1","lint":"eslint ."},"devDependencies":{"vite":"1"}}`,
			"pnpm-lock.yaml": "",
		}, map[string]string{"task build": "pnpm run build", "service dev": "pnpm run dev",
			"task lint": "pnpm run lint"}},
		"workspaces": {map[string]string{
			"package.json": `{"workspaces":{"packages":["apps/*"]},"scripts":{"build":"npm run build ` +
				`--workspaces","start":"node main.js"}}`, "yarn.lock": "",
			"apps/desk/package.json":  `{"scripts":{"start":"node dist/server.js","build":"tsc"}}`,
			"apps/front/package.json": `{"scripts":{"dev":"tsc --watch","test":"node --test"}}`,
		}, map[string]string{
			"service start": "yarn run start", "task desk-build": "yarn run build", "service desk": "yarn run start",
			"service front": "yarn run dev", "suite front-test": "yarn run test",
		}},
		"python": {map[string]string{
			"pyproject.toml": "[tool.pytest]\n", "uv.lock": "", "api.py": "app = FastAPI()", "tests/test_fares.py": "",
			"notes.py": "print()",
		}, map[string]string{"service api": "uv run python -m uvicorn api:app",
			"suite test": "uv run python -m pytest"}},
		"cargo": {map[string]string{
			"Cargo.toml":  "[package]\nname = \"berths\"\n[dependencies]\naxum = \"1\"\n",
			"src/main.rs": "fn main() { listen(4102) }",
		}, map[string]string{"service berths": "cargo run", "suite test": "cargo test"}},
		"targets": {map[string]string{
			"Makefile":     "VAR := x\nall: run\nrun: gen\n\t./serve\ngen:\n\t./gen\ntest:\n\t./test\nclean:\n\trm x\n",
			"compose.yaml": "services: { db: { image: postgres, ports: [\"5432:5432\"] } }", ".env": "A=1",
		}, map[string]string{"service run": "make run", "task gen": "make gen", "suite test": "make test"}},
		"a module with targets": {map[string]string{
			"go.mod": "module x\n", "x_test.go": "package x",
			"Makefile": "test:\n\tgo test ./...\nlint:\n\tgo vet ./...\n",
		}, map[string]string{"suite test": "go test ./...", "task lint": "make lint"}},
		"nothing": {map[string]string{"notes.txt": ""}, map[string]string{"task hello": "echo hello from Omnivigil"}},
		"broken": {map[string]string{"package.json": "{", "Cargo.toml": "[", "compose.yaml": "\t- x", "go.mod": "?"},
			map[string]string{"task hello": "echo hello from Omnivigil"}},
	} {
		t.Run(name, func(t *testing.T) {
			p, d := drafted(t, test.files)
			assert.Equal(t, test.want, runs(p), d.Text)
			assert.NotEmpty(t, d.Notes)
		})
	}
}

func TestDetails(t *testing.T) {
	p, d := drafted(t, map[string]string{
		"package.json":      `{"workspaces":["desk"],"dependencies":{"a":"1"}}`,
		"package-lock.json": "{}", ".env": "A=1",
		"desk/package.json": `{"scripts":{"start":"node dist/server.js --port 4102","build":"tsc"}}`,
		"compose.yml":       "services: { db: { image: postgres } }",
	})
	desk := p.Unit("desk")
	assert.Equal(t, []string{"desk-build"}, desk.Follows)
	assert.Equal(t, 4102, desk.Endpoint.Port)
	assert.Equal(t, filepath.Join(p.Root, "desk"), desk.Dir)
	assert.Equal(t, "cd ../ && npm ci", desk.Setup[0].Run.String())
	assert.Equal(t, "package-lock.json", desk.Setup[0].Inputs[0].Text)
	assert.Equal(t, []string{".env"}, p.EnvFiles)
	assert.Contains(t, d.Text, "\n# [service.db]\n", "what needs an engine for containers is only proposed")
}

// TestWhatGoIsBuiltFrom restarts a program for what it is built from, and for nothing else.
func TestWhatGoIsBuiltFrom(t *testing.T) {
	p, _ := drafted(t, map[string]string{
		"go.mod": "module saltmarsh/ferry\n",
		"go.sum": "",
		"cmd/berths/main.go": "package main\nimport \"saltmarsh/ferry/internal/tide\"\n" +
			"func main() { net.Listen() }",
		"cmd/berths/pages/page.go": "package pages",
		"internal/tide/tide.go":    "package tide\nimport \"saltmarsh/ferry/chart\"\n",
		"chart/chart.go": "package chart\nimport _ \"embed\"\n//go:embed depths.csv all:maps\n" +
			"var depths string",
		"cmd/tickets/main.go": "package main\nfunc main() { net.Listen() }",
	})
	watches := func(unit string) (all []string) {
		for _, w := range p.Unit(unit).Watch {
			all = append(all, w.Text)
		}
		return all
	}
	assert.Equal(
		t,
		[]string{
			"cmd/berths/**/*.go",
			"internal/**/*.go",
			"chart/**/*.go",
			"chart/depths.csv",
			"chart/maps",
			"chart/maps/**",
			"go.mod",
			"go.sum",
		},
		watches("berths"),
	)
	assert.Equal(t, []string{"cmd/tickets/**/*.go", "go.mod", "go.sum"}, watches("tickets"))
}

// FuzzDraft requires that the draft of any manifest is valid.
func FuzzDraft(f *testing.F) {
	f.Add(
		`{"scripts":{"start":"node \"x\"","test":"a\nb"},"workspaces":["*"]}`,
		"run: x\n\t\"\nbuild:",
		"services:\n  \"a b\": {image: \"x\\ny\"}",
		"[package]\nname = \"a.b\"",
	)
	f.Fuzz(func(t *testing.T, node, targets, compose, cargo string) {
		drafted(
			t,
			map[string]string{
				"go.mod":             "module x",
				"a[b{c/x.go":         "package main\nimport \"x/d}e\"\n//go:embed " + targets + "\n",
				"package.json":       node,
				"a[b{c/package.json": node,
				"Makefile":           targets,
				"compose.yaml":       compose,
				"Cargo.toml":         cargo,
				"src/main.rs":        "TcpListener",
			},
		)
	})
}
