package project

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestHarm(t *testing.T) {
	root := t.TempDir()
	require.NoError(t, os.Mkdir(filepath.Join(root, "src"), 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(root, ".gitignore"), []byte("/made.js\ncache/\n"), 0o644))
	p := Open(root)
	for line, want := range map[string]string{
		"tsc && node dist/a.js":                   "",
		"rm -rf dist/ lib made.js cache && tsc":   "",
		"rimraf dist":                             OnlyCleans,
		"rm -rf data && tsc":                      "deletes data",
		"rm -rf ../dist && tsc":                   "deletes ../dist",
		"rm -rf $DIR && tsc":                      "deletes $DIR",
		"rm -rf / && tsc":                         "deletes /",
		"CI=1 npx --yes lerna publish":            "runs lerna publish",
		"cross-env A=b git push":                  "runs git push",
		"git status":                              "",
		"./gradlew build && gradle publish":       "runs gradle publish",
		"bash scripts/deploy.sh":                  "runs bash scripts/deploy.sh",
		"./release.sh":                            "runs ./release.sh",
		"rails db:reset":                          "runs rails db:reset",
		"docker buildx build --push .":            "pushes or publishes: docker",
		"prettier --check .":                      "",
		"prettier --write .":                      "changes sources: prettier",
		"ruff check . --fix":                      "changes sources: ruff",
		"if true; then (cd x && npm publish); fi": "runs npm publish",
		"echo \"$(kubectl get pods)\"":            "runs kubectl get",
		"unfinished 'quote":                       "",
	} {
		assert.Equal(t, want, p.Harm(".", CommandsOf(line)), line)
	}
}

func TestPortOf(t *testing.T) {
	for text, want := range map[string]int{
		"http.ListenAndServe(\":4102\", nil)": 4102, "net.Listen(\"tcp\", \"127.0.0.1:4103\")": 4103,
		"server.listen(4104)": 4104, "const port = process.env.PORT || 4105": 4105, "--port 4106": 4106,
		"PORT=4107 node a.js": 4107, "app.run(host='0.0.0.0', port=4108)": 4108, "app.run(4109)": 4109,
		"new ServerSocket(4110)": 4110, "HTTPServer((\"\", 4111), Handler)": 4111, "timeout(5000)": 0, "port 70000": 0,
		"listen(99999)": 0,
	} {
		assert.Equal(t, want, PortOf(text), text)
	}
}

func TestSteps(t *testing.T) {
	assert.Equal(t, []string{"npm run a", `b "c && d"`, "e | f"}, Steps(`npm run a && b "c && d" && e | f`))
	assert.Nil(t, Steps("a; b"))
	assert.Nil(t, Steps("a &"))
	assert.Nil(t, Steps("'"))
}

// FuzzCommands requires that no line of shell makes the judgement fail.
func FuzzCommands(f *testing.F) {
	for _, line := range []string{
		"a && b", "cd x && A=b npx -y c \"$(d)\" || e &", "é && \xff", "f() { g; }; $((1+", "a <<E\nx\nE\n",
	} {
		f.Add(line)
	}
	p := Open(f.TempDir())
	f.Fuzz(func(_ *testing.T, line string) {
		p.Harm(".", CommandsOf(line))
		Steps(line)
		PortOf(line)
	})
}
