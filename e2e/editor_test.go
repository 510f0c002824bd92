package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

const (
	pierSource = `package pier

func Berths(pier string) int {
	return %s
}
`
	pierTest = `package pier

import (
	"os"
	"testing"
)

func TestFerries(t *testing.T) {}

func TestBerths(t *testing.T) {
	more, _ := os.ReadFile("more.txt")
	if got := Berths("north") + len(more); got != 4 {
		t.Errorf("got %d berths, want 4", got)
	}
}
`
)

// openPier starts a Go module with a check and tests, one of which fails while a file is missing that is not watched.
func openPier(t *testing.T) (dir string, env []string) {
	dir, err := filepath.EvalSymlinks(t.TempDir())
	require.NoError(t, err)
	for name, text := range map[string]string{
		"go.mod":       "module pier\n\ngo 1.24\n",
		"pier.go":      fmt.Sprintf(pierSource, "3"),
		"pier_test.go": pierTest,
		"omnivigil.toml": `[task.check]
run = "go vet ."
watch = ["*.go"]

[suite.tests]
run = ["go", "test", "-json", "."]
watch = ["*.go"]
`,
	} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), []byte(text), 0o644))
	}
	env = []string{"XDG_STATE_HOME=" + t.TempDir(), "XDG_CONFIG_HOME=" + t.TempDir(), "GOFLAGS=-mod=mod"}
	out, err := command(env, dir, "start", "--background", "--trust")
	require.NoError(t, err, out)
	t.Cleanup(func() {
		command(env, dir, "stop", "--all")
		noneLeft(t, dir)
	})
	out, _ = command(env, dir, "wait")
	require.Contains(t, out, "TestBerths")
	return dir, env
}

// neovim is an editor without a screen, with the settings that the guide shows.
type neovim struct {
	t      *testing.T
	socket string
}

func openNeovim(t *testing.T, dir string, env []string, file string) *neovim {
	if _, err := exec.LookPath("nvim"); err != nil {
		t.Skip("nvim is not installed")
	}
	guide, err := os.ReadFile("../docs/guide.md")
	require.NoError(t, err)
	documented := regexp.MustCompile("(?s)```lua\n(.*?)```").FindSubmatch(guide)
	require.NotNil(t, documented)
	chosen := `
vim.o.swapfile = false
vim.ui.select = function(lenses, _, choose)
  for i, l in ipairs(lenses) do if l.lens.command.title == vim.g.wanted then return choose(l, i) end end
end`
	settings := filepath.Join(t.TempDir(), "init.lua")
	require.NoError(t, os.WriteFile(settings, append(documented[1], chosen...), 0o644))
	e := &neovim{t, filepath.Join(t.TempDir(), "socket")}
	cmd := exec.Command("nvim", "--headless", "-u", settings, "--listen", e.socket, file)
	cmd.Dir = dir
	cmd.Env = append(append(os.Environ(), env...), "PATH="+filepath.Dir(build(t))+":"+os.Getenv("PATH"))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		cmd.Process.Signal(syscall.SIGTERM)
		cmd.Wait()
	})
	require.True(t, holds(patience, func() bool { return e.try("1") == "1" }), "it never listened")
	return e
}

// try is the value of an expression of Lua, or what is wrong with it. Some versions print the value as an error.
func (e *neovim) try(lua string) string {
	out, _ := exec.Command("nvim", "--server", e.socket, "--remote-expr",
		fmt.Sprintf(`luaeval("tostring(%s)")`, quoted.Replace(lua))).CombinedOutput()
	return strings.TrimSpace(string(out))
}

// quoted writes an expression of Lua as a string of the editor's own language.
var quoted = strings.NewReplacer(`\`, `\\`, `"`, `\"`, "\n", " ")

// does executes a command of the editor.
func (e *neovim) does(ex string) {
	e.try(fmt.Sprintf(`vim.api.nvim_exec([[%s]], true)`, ex))
}

// underlined is the text that the editor underlines, with its messages.
func (e *neovim) underlined() string {
	return e.try(`(function()
  local all = {}
  for _, space in pairs(vim.diagnostic.get_namespaces()) do
    local lines = space.user_data.underline_ns
    for _, mark in ipairs(lines and vim.api.nvim_buf_get_extmarks(0, lines, 0, -1, { details = true }) or {}) do
      local line = vim.api.nvim_buf_get_lines(0, mark[2], mark[2] + 1, false)[1]
      table.insert(all, line:sub(mark[3] + 1, mark[4].end_col))
    end
  end
  for _, d in ipairs(vim.diagnostic.get(0)) do table.insert(all, d.message) end
  return table.concat(all, "; ")
end)()`)
}

// shows waits until what is underlined is as expected, and returns how long that took.
func (e *neovim) shows(pattern string) time.Duration {
	e.t.Helper()
	began, last := time.Now(), ""
	if !holds(patience, func() bool {
		last = e.underlined()
		return regexp.MustCompile(pattern).MatchString(last)
	}) {
		require.FailNow(e.t, "never shown: "+pattern, last)
	}
	return time.Since(began)
}

// TestNeovim has a type error underlined and cleared, and a failing test run again from its lens.
func TestNeovim(t *testing.T) {
	t.Parallel()
	dir, env := openPier(t)
	e := openNeovim(t, dir, env, "pier.go")

	e.does(`%s/return 3/return pier/ | write`)
	took := e.shows(`^pier; cannot use pier .*\(check run \d+, of the code just saved\)`)
	t.Logf("underlined %.2f s after the save", took.Seconds())
	e.does(`%s/return pier/return 3/ | write`)
	t.Logf("cleared %.2f s after the save", e.shows(`^$`).Seconds())

	e.does(`edit pier_test.go`)
	e.shows(`t.Errorf.*TestBerths failed: got 3 berths, want 4 \(tests run \d+, of the code just saved\)`)
	require.True(t, holds(patience, func() bool { return e.try(`#vim.lsp.codelens.get(0)`) == "4" }), "no lenses")
	logged := func(times int, text string) {
		t.Helper()
		out := ""
		require.True(t, holds(patience, func() bool {
			out, _ = command(env, dir, "logs", "-n", "1000")
			return strings.Count(out, text) >= times
		}), "%s\n%s", out, e.try(`vim.api.nvim_exec("messages", true)`))
	}
	e.does(`let g:wanted = "only this test"`)
	e.does(`13 | lua vim.lsp.codelens.run()`)
	logged(1, "tests reruns: you narrowed tests to TestBerths")
	command(env, dir, "wait")

	require.NoError(t, os.WriteFile(filepath.Join(dir, "more.txt"), []byte("1"), 0o644))
	e.does(`let g:wanted = "run this test"`)
	e.does(`13 | lua vim.lsp.codelens.run()`)
	logged(2, "tests reruns: you narrowed tests to TestBerths")
	logged(2, "--- PASS: TestBerths") // and then all of them again
	e.shows(`^$`)
	out, err := command(env, dir, "wait")
	require.NoError(t, err, out)
	require.Contains(t, out, "CURRENT", "it is not narrowed any more")
}

// TestClientLibrary speaks to the server through the client library of another language.
func TestClientLibrary(t *testing.T) {
	t.Parallel()
	dir, env := openPier(t)
	modules := t.TempDir()
	fetch(t, modules, "npm", `npm install --silent --no-package-lock "$@" >/dev/null`,
		"vscode-languageserver-protocol@3.17.5", "vscode-jsonrpc@8.2.0")
	script, err := os.ReadFile("testdata/editor.js")
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(filepath.Join(modules, "editor.js"), script, 0o644))
	ctx, stop := context.WithTimeout(context.Background(), patience)
	defer stop()
	cmd := exec.CommandContext(ctx, "node", "editor.js", build(t), dir, filepath.Join(dir, "pier_test.go"))
	cmd.Dir, cmd.Env, cmd.Stderr = modules, append(os.Environ(), env...), os.Stderr
	out, err := cmd.Output()
	require.NoError(t, err)
	var said struct {
		Lenses    []string
		Explained string
		At        struct{ Line, Character int }
	}
	require.NoError(t, json.Unmarshal(out, &said), string(out))
	assert.Equal(t, []string{"run this test", "only this test", "rerun tests", "explain"}, said.Lenses)
	assert.Contains(t, said.Explained, "got 3 berths, want 4")
	assert.Equal(t, 12, said.At.Line)
	assert.Equal(t, 2, said.At.Character)
}
