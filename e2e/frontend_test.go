package e2e

import (
	"fmt"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// copyTicketOffice returns a copy of the example, and its ports.
func copyTicketOffice(t *testing.T) (dir string, ports []int) {
	for _, program := range []string{"node", "npm"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skipf("%s is not installed", program)
		}
	}
	dir, ports = t.TempDir(), freePorts(3)
	require.NoError(t, os.CopyFS(dir, os.DirFS("../examples/ticket-office")))
	settings, err := os.ReadFile(dir + "/omnivigil.toml")
	require.NoError(t, err)
	for i, name := range []string{"4181", "4182", "4183"} {
		settings = []byte(strings.ReplaceAll(string(settings), name, fmt.Sprint(ports[i])))
	}
	require.NoError(t, os.WriteFile(dir+"/omnivigil.toml", settings, 0o644))
	return dir, ports
}

// TestTicketOffice uses the example of a front end as a user would: the page is served when its script exists, a
// broken bundle is shown instead of it, and the release is built in one go.
func TestTicketOffice(t *testing.T) {
	t.Parallel()
	program := build(t)
	dir, ports := copyTicketOffice(t)
	run := func(words ...string) string {
		cmd := exec.Command(program, words...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "XDG_STATE_HOME="+dir+"/.state", "XDG_RUNTIME_DIR=")
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	at := func(n int, path string) string { return fmt.Sprintf("http://127.0.0.1:%d%s", ports[n], path) }
	run("start", "--background", "--trust")
	t.Cleanup(func() {
		run("stop", "--all")
		noneLeft(t, dir)
	})
	if said := run("wait"); !strings.Contains(said, "CURRENT") {
		if strings.Contains(run("logs"), "npm error network") {
			t.Skip("npm reaches no packages")
		}
		require.Contains(t, said, "CURRENT", "%s", run("logs"))
	}
	assert.Regexp(t, `<head><script src="/.omnivigil/page.js"></script>`, get(at(0, "/")))
	assert.Contains(t, get(at(0, "/api/sailings")), "Little Marram")
	assert.Contains(t, get(at(0, "/build/app.js")), "insertCell")

	edit(t, dir+"/web/sailings.ts", "toFixed(2)", "toFixed(3)")
	assert.Contains(t, run("wait"), "CURRENT")
	assert.Contains(t, get(at(0, "/build/app.js")), "toFixed(3)")
	edit(t, dir+"/web/sailings.ts", "toFixed(3)", "toFixed(")
	assert.Contains(t, run("wait"), "BROKEN")
	request, err := http.NewRequest("GET", at(0, "/"), nil)
	require.NoError(t, err)
	request.Header.Set("Accept", "text/html")
	response, err := http.DefaultClient.Do(request)
	require.NoError(t, err)
	defer response.Body.Close()
	assert.Equal(t, http.StatusServiceUnavailable, response.StatusCode)
	edit(t, dir+"/web/sailings.ts", "toFixed(", "toFixed(2)")
	assert.Contains(t, run("wait"), "CURRENT")

	assert.Regexp(t, regexp.MustCompile(`(?m)release +done`), run("once", "release"))
	page, err := os.ReadFile(filepath.Join(dir, "dist/index.html"))
	require.NoError(t, err)
	assert.Contains(t, string(page), `src="/app.js"`)
	assert.Regexp(t, `dist/app.js +1 file +\d+ B`, run("status", "minify"))
	edit(t, dir+"/web/sailings.ts", "toFixed(2)", "toFixed(2) + ' in all'")
	run("restart", "minify")
	run("wait", "minify")
	require.True(
		t,
		holds(
			patience,
			func() bool { return regexp.MustCompile(`after run 2 +\d+ B`).MatchString(run("status", "minify")) },
		),
		"%s",
		run("status", "minify"),
	)
	run("run", "shipped")
	run("wait", "shipped")
	assert.Contains(t, get(at(2, "/site.css")), "#0b6e69")
}

// TestTicketOfficeSwitched switches the example between two branches twenty times, and removes what was built before
// every other switch: each state is built once.
func TestTicketOfficeSwitched(t *testing.T) {
	t.Parallel()
	program := build(t)
	dir, _ := copyTicketOffice(t)
	state := t.TempDir()
	run := func(name string, words ...string) string {
		cmd := exec.Command(name, words...)
		cmd.Dir, cmd.Env = dir, append(os.Environ(), "XDG_STATE_HOME="+state, "XDG_RUNTIME_DIR=")
		out, _ := cmd.CombinedOutput()
		return string(out)
	}
	commit := func(text string) {
		run("git", "add", "-A")
		run("git", "-c", "user.name=berth", "-c", "user.email=berth@example.org", "commit", "-qm", text)
	}
	require.NoError(t, os.WriteFile(dir+"/.gitignore", []byte("node_modules\nbuild\ndist\n"), 0o644))
	run("git", "init", "-q", "-b", "east")
	commit("east")
	run("git", "checkout", "-q", "-b", "west")
	edit(t, dir+"/web/sailings.ts", "toFixed(2)", "toFixed(3)")
	commit("west")
	run(program, "start", "--background", "--trust", "bundle")
	t.Cleanup(func() {
		run(program, "stop", "--all")
		noneLeft(t, dir)
	})
	if said := run(program, "wait"); !strings.Contains(said, "CURRENT") {
		if strings.Contains(run(program, "logs"), "npm error network") {
			t.Skip("npm reaches no packages")
		}
		require.Contains(t, said, "CURRENT", "%s", run(program, "logs"))
	}
	for n := range 20 {
		if n%2 == 1 {
			require.NoError(t, os.RemoveAll(dir+"/build"))
		}
		branch := []string{"east", "west"}[n%2]
		run("git", "checkout", "-q", branch)
		assert.Contains(t, run(program, "wait"), "CURRENT")
		digits := map[string]string{"east": "toFixed(2)", "west": "toFixed(3)"}[branch]
		require.True(t, holds(patience, func() bool {
			made, err := os.ReadFile(dir + "/build/app.js")
			return err == nil && strings.Contains(string(made), digits)
		}), "switch %d", n)
		assert.FileExists(t, dir+"/build/app.js.map")
	}
	log := run(program, "logs", "bundle", "-n", "10000")
	built := strings.Count(log, "bundle done in")
	assert.GreaterOrEqual(t, built, 2, "%s", log)
	assert.LessOrEqual(t, built, 4, "more than sources that are seen in the middle of a slow checkout:\n%s", log)
	assert.GreaterOrEqual(t, strings.Count(log, "bundle restored from"), 17)
}
