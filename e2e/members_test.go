package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// island is a copy of the example workspace, on ports of its own.
type island struct {
	*teammate
	ports map[string]int
}

func openIsland(t *testing.T) *island {
	for _, program := range []string{"redis-server", "redis-cli", "node", "go"} {
		if _, err := exec.LookPath(program); err != nil {
			t.Skip(program + " is not installed")
		}
	}
	dir := filepath.Join(t.TempDir(), "island")
	u := &teammate{workspace: &workspace{t: t, dir: dir, state: t.TempDir()}, config: t.TempDir()}
	u.env = []string{"XDG_STATE_HOME=" + u.state, "XDG_CONFIG_HOME=" + u.config, "GOCACHE=" + goCache(t)}
	require.NoError(t, os.CopyFS(dir, os.DirFS("../examples/island-line")))
	i := &island{u, map[string]int{}}
	ports := freePorts(4)
	for n, port := range []string{"54341", "54342", "54343", "54344"} {
		i.ports[port] = ports[n]
	}
	for _, file := range []string{".env", "omnivigil.toml", "services/berths/omnivigil.toml",
		"services/fares/omnivigil.toml",
		"web/omnivigil.toml"} {
		text, err := os.ReadFile(filepath.Join(dir, file))
		require.NoError(t, err)
		for port, own := range i.ports {
			text = bytes.ReplaceAll(text, []byte(port), fmt.Append(nil, own))
		}
		i.write(file, string(text))
	}
	t.Cleanup(func() { command(u.env, dir, "stop", "--all") })
	return i
}

func (i *island) url(port string) string { return fmt.Sprintf("http://127.0.0.1:%d/", i.ports[port]) }

func (i *island) write(name, text string) {
	file := filepath.Join(i.dir, filepath.FromSlash(name))
	require.NoError(i.t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(i.t, os.WriteFile(file, []byte(text), 0o644))
}

// in runs a command in a directory of the workspace.
func (i *island) in(dir string, words ...string) (string, error) {
	return command(i.env, filepath.Join(i.dir, dir), words...)
}

// says waits until the status matches an expression.
func (i *island) says(pattern string) {
	i.t.Helper()
	status := ""
	re := regexp.MustCompile(pattern)
	if !holds(patience, func() bool {
		status, _ = i.in(".", "status")
		return re.MatchString(status)
	}) {
		require.FailNow(i.t, "never said", "%s in\n%s", pattern, status)
	}
}

// TestIslandLine runs the example workspace from its root and from its members, while their settings are edited.
func TestIslandLine(t *testing.T) {
	t.Parallel()
	i := openIsland(t)
	out, err := i.in(".", "start", "--background", "--trust")
	require.NoError(t, err, out)
	i.says(`CURRENT +all 6 run`)
	answers(t, i.url("54344"), `Island line 1.*berths 1.*Tern.*fares 1.*4\.20`)

	// A file of the root runs what depends on it in the members, and one of a member only that.
	edit(t, filepath.Join(i.dir, "data/berths.txt"), "Tern", "Curlew")
	answers(t, i.url("54344"), `Curlew`)
	edit(t, filepath.Join(i.dir, "services/fares/server.js"), "fares 1", "fares 2")
	answers(t, i.url("54344"), `Curlew.*fares 2`)
	i.says(`CURRENT +all 6 run the code saved`)
	out, err = i.in("services/fares", "status", "api")
	require.NoError(t, err, out)
	assert.Contains(t, out, "fares/api is ready and current")
	out, err = i.in("services/berths", "why", "main.go")
	require.NoError(t, err, out)
	assert.Contains(t, out, "berths/api")

	// The settings of a member are edited, broken, and mended.
	edit(t, filepath.Join(i.dir, "web/omnivigil.toml"), `watch = ["*.js"]`, `watch = ["*.js", "*.css"]`)
	i.says(`CURRENT`)
	edit(t, filepath.Join(i.dir, "web/omnivigil.toml"), `run = ["node", "server.js"]`, `run = ["node"`)
	i.says(`STALE.*web/omnivigil.toml:5`)
	answers(t, i.url("54344"), `Curlew.*fares 2`)
	edit(t, filepath.Join(i.dir, "web/omnivigil.toml"), `run = ["node"`, `run = ["node", "server.js"]`)
	i.says(`CURRENT`)

	// A new member runs after consent, and ends when it is removed.
	i.write("services/tides/omnivigil.toml", "[service.clock]\nrun = \"exec sleep 1000\"\nneeds = [\"database\"]\n")
	i.says(`STALE.*the member tides is new; omnivigil start asks`)
	out, err = i.in("services/tides", "start", "--background")
	require.Error(t, err, out)
	assert.Contains(t, out, "tides/clock")
	out, err = i.in("services/tides", "start", "--background", "--trust")
	require.NoError(t, err, out)
	i.says(`(?s)CURRENT.*tides/clock +service +ready`)
	require.NoError(t, os.RemoveAll(filepath.Join(i.dir, "services/tides")))
	i.says(`CURRENT +all 6 run`)
	out, err = i.in(".", "stop", "--all")
	require.NoError(t, err, out)

	// From a member, it starts what that needs; by itself, only that.
	out, err = i.in("services/fares", "start", "--background", "--trust")
	require.NoError(t, err, out)
	i.says(`CURRENT +3 of 6 run`)
	answers(t, i.url("54343"), `fares 2`)
	out, err = i.in("web", "start", "--background")
	require.NoError(t, err, out)
	i.says(`CURRENT +5 of 6 run`)
	out, err = i.in("web", "stop", "--all")
	require.NoError(t, err, out)
	out, err = i.in("services/fares", "start", "--alone", "--background", "--trust")
	require.NoError(t, err, out)
	require.True(t, holds(patience, func() bool {
		out, _ = i.in("services/fares", "status")
		return strings.Contains(out, "CURRENT")
	}), out)
	assert.NotContains(t, out, "database")
	out, err = i.in("services/fares", "stop", "--all")
	require.NoError(t, err, out)
	noneLeft(t, i.dir)
}
