package e2e

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"sync"
	"syscall"
	"testing"
	"time"

	"github.com/modelcontextprotocol/go-sdk/mcp"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
)

// background is a project that runs without a face.
type background struct {
	t   testing.TB
	dir string
}

// inBackground starts a project with these settings in a directory.
func inBackground(t testing.TB, dir, settings string) *background {
	t.Helper()
	b := &background{t, dir}
	require.NoError(t, os.WriteFile(filepath.Join(dir, "omnivigil.toml"), []byte(settings), 0o644))
	out, code := b.run("start", "--background", "--trust")
	require.Equal(t, 0, code, out)
	t.Cleanup(func() {
		b.run("stop", "--all")
		noneLeft(b.t.(*testing.T), b.dir)
	})
	return b
}

func (b *background) command(words ...string) *exec.Cmd {
	cmd := exec.Command(build(b.t), words...)
	cmd.Dir = b.dir
	cmd.Env = append(os.Environ(), b.env()...)
	return cmd
}

func (b *background) env() []string {
	return []string{"XDG_STATE_HOME=" + b.dir + "/state", "XDG_RUNTIME_DIR=", "XDG_CONFIG_HOME=" + b.dir + "/config"}
}

// run runs a command and returns its output and its exit status.
func (b *background) run(words ...string) (string, int) {
	b.t.Helper()
	cmd := b.command(words...)
	out, err := cmd.CombinedOutput()
	if cmd.ProcessState == nil {
		require.NoError(b.t, err)
	}
	return string(out), cmd.ProcessState.ExitCode()
}

func (b *background) status() *api.Snapshot {
	b.t.Helper()
	out, code := b.run("status", "--json")
	require.Equal(b.t, 0, code, out)
	snap := &api.Snapshot{}
	require.NoError(b.t, json.Unmarshal([]byte(out), snap))
	return snap
}

func (b *background) write(name, text string) {
	b.t.Helper()
	file := filepath.Join(b.dir, name)
	require.NoError(b.t, os.MkdirAll(filepath.Dir(file), 0o755))
	require.NoError(b.t, os.WriteFile(file, []byte(text), 0o644))
}

// TestThreeScreens shows the demo on three screens: one is suspended, one killed, and the third keeps running; no
// server misses a heartbeat, and after the last one nothing is left.
func TestThreeScreens(t *testing.T) {
	t.Parallel()
	temp, state := t.TempDir(), t.TempDir()
	env := []string{"XDG_STATE_HOME=" + state, "XDG_RUNTIME_DIR=", "TMPDIR=" + temp}
	program := build(t)
	first := openScreen(t, 120, 30, env, temp, program, "demo")
	first.shows(`CURRENT +9 of 10 run`)
	folders, err := filepath.Glob(temp + "/omnivigil-demo-*/saltmarsh-ferries")
	require.NoError(t, err)
	require.Len(t, folders, 1)
	b := &background{t, folders[0]}
	attach := func() *screen {
		s := openScreen(t, 120, 30, env, folders[0], "bash --norc -i; true")
		s.shows(`(?m)[#$] *$`)
		s.press(program+" attach & echo $! > pid.$$; fg", "Enter")
		s.shows(`CURRENT +9 of 10 run`)
		return s
	}
	snap := func() *api.Snapshot {
		cmd := exec.Command(program, "status", "--json")
		cmd.Dir, cmd.Env = b.dir, append(os.Environ(), env...)
		out, err := cmd.Output()
		require.NoError(t, err)
		s := &api.Snapshot{}
		require.NoError(t, json.Unmarshal(out, s))
		return s
	}
	attach()
	third := attach()
	require.Eventually(t, func() bool { return len(snap().Faces) == 3 }, patience, 20*time.Millisecond)
	before := snap()

	var faces []int
	for _, f := range before.Faces {
		faces = append(faces, f.PID)
	}
	// There is no shell that ctrl+z could give the terminal to.
	require.NoError(t, syscall.Kill(faces[0], syscall.SIGSTOP))
	require.Eventually(t, func() bool {
		stat, _ := os.ReadFile(fmt.Sprintf("/proc/%d/stat", faces[0]))
		return strings.Contains(string(stat), ") T ")
	}, patience, 10*time.Millisecond, "it is suspended")
	require.NoError(t, syscall.Kill(faces[1], syscall.SIGKILL))
	require.Eventually(t, func() bool { return len(snap().Faces) == 2 }, patience, 20*time.Millisecond)

	edit(t, folders[0]+"/berths/rules.toml", "under_keel = 0.6", "under_keel = 0.9")
	third.shows(`ripple 2: current after`)
	third.shows(`CURRENT +9 of 10 run the code saved`)
	after := snap()
	for i, u := range after.Units {
		if u.Name != "berths" && u.Name != "harbour" { // these two read the file
			assert.Equal(t, before.Units[i].Run.PID, u.Run.PID, "%s has not missed a beat", u.Name)
		}
	}
	third.press("q")
	third.shows(`would keep running without this screen,\s+with 1 other screen`)
	third.press("Escape")
	third.shows(`following`)
	require.NoError(t, syscall.Kill(faces[0], syscall.SIGKILL))
	require.Eventually(
		t,
		func() bool { return !strings.Contains(third.text(), "other screen") },
		patience,
		20*time.Millisecond,
	)
	third.press("q", "q")
	third.shows(`Saltmarsh Ferries ran for`)
	noneLeft(t, temp)
	_, err = os.Stat(folders[0])
	require.ErrorIs(t, err, os.ErrNotExist, "the demo's directory goes with it, although its first face was killed")
}

// TestOnlyOneSupervisor starts a project ten times at the same moment.
func TestOnlyOneSupervisor(t *testing.T) {
	t.Parallel()
	b := &background{t, t.TempDir()}
	b.write("omnivigil.toml", "[service.tides]\nrun = \"exec sleep 1000\"\n")
	var wg sync.WaitGroup
	for range 10 {
		wg.Go(func() {
			out, code := b.run("start", "--background", "--trust")
			assert.Equal(t, 0, code, out)
		})
	}
	wg.Wait()
	assert.Equal(t, 1, b.status().Unit("tides").Run.Number)
	out, err := exec.Command("pgrep", "-fc", "supervise --file "+b.dir).Output()
	require.NoError(t, err)
	assert.Equal(t, "2", strings.TrimSpace(string(out)), "a watchdog and its supervisor")
	said, code := b.run("stop", "--all")
	assert.Equal(t, 0, code, said)
	noneLeft(t, b.dir)
}

// TestAttachAndLeave closes the screen of a project in the background, which keeps running, and starts it again,
// which reports that it is running.
func TestAttachAndLeave(t *testing.T) {
	t.Parallel()
	b := inBackground(
		t,
		t.TempDir(),
		"[service.tides]\nrun = \"printf 'high? '; read -r answer; echo $answer water; exec sleep 1000\"\n"+
			"[task.fares]\nrun = \"true\"\nstart = \"manual\"\n",
	)
	program := build(t)
	s := openScreen(t, 120, 24, b.env(), b.dir, program, "start")
	s.shows(`running since .*, in the background; no screen attached\.\s+Attach to it\?`)
	s.press("Enter")
	s.shows(`CURRENT +1 of 2 run`)
	s.press("q")
	s.shows(`would keep running without this screen,\s+in the background`)
	s.press("Enter")
	s.shows(`keeps running\. omnivigil attach shows it again`)
	s.shows(`exit code 0`)
	assert.Equal(t, 1, b.status().Unit("tides").Run.Number)

	out, code := b.run("start", "fares")
	assert.Equal(t, 0, code)
	assert.Contains(t, out, "running since")
	assert.Contains(t, out, "Ripple 2")
	out, code = b.run("start")
	assert.Equal(t, 2, code)
	assert.Contains(t, out, "Nothing was started. Look at it with omnivigil attach.")

	s = openScreen(t, 120, 24, b.env(), b.dir, program, "attach")
	s.shows(`CURRENT`)
	s.press("q")
	s.shows(`stop everything`)
	s.press("s")
	s.shows(`ran for`)
	noneLeft(t, b.dir)
}

// TestSocketIsPrivate checks the socket, also of a project whose directories have long names.
func TestSocketIsPrivate(t *testing.T) {
	t.Parallel()
	dir := filepath.Join(t.TempDir(), strings.Repeat("salt", 30), strings.Repeat("marsh", 20))
	require.NoError(t, os.MkdirAll(dir, 0o755))
	b := inBackground(t, dir, "[service.tides]\nrun = \"exec sleep 1000\"\n")
	out, code := b.run("status", "--socket")
	require.Equal(t, 0, code)
	socket := strings.TrimSpace(out)
	assert.LessOrEqual(t, len(socket), 107)
	info, err := os.Stat(socket)
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o600), info.Mode().Perm())
	info, err = os.Stat(filepath.Dir(socket))
	require.NoError(t, err)
	assert.Equal(t, os.FileMode(0o700), info.Mode().Perm())
}

// TestAssistant edits, waits, reads the failure, fixes it and waits, with the protocol's own client over a real pipe.
func TestAssistant(t *testing.T) {
	t.Parallel()
	b := &background{t, t.TempDir()}
	b.write(
		"omnivigil.toml",
		"[service.tides]\nrun = \"printf 'high? '; read -r answer; echo $answer water; exec sleep 1000\"\n"+
			"[task.fares]\nrun = \"grep -q fare fares.csv || { echo 'error: no fare in fares.csv'; exit 3; }\"\n"+
			"watch = [\"fares.csv\"]\n",
	)
	b.write("fares.csv", "fare\n")
	ctx, stop := context.WithTimeout(t.Context(), time.Minute)
	defer stop()
	connect := func(words ...string) *mcp.ClientSession {
		client := mcp.NewClient(&mcp.Implementation{Name: "test"}, nil)
		session, err := client.Connect(ctx, &mcp.CommandTransport{Command: b.command(words...)}, nil)
		require.NoError(t, err)
		return session
	}
	call := func(s *mcp.ClientSession, tool string, args map[string]any) (string, bool) {
		result, err := s.CallTool(ctx, &mcp.CallToolParams{Name: tool, Arguments: args})
		require.NoError(t, err)
		var text strings.Builder
		for _, c := range result.Content {
			text.WriteString(c.(*mcp.TextContent).Text)
		}
		return text.String(), result.IsError
	}
	untrusted := connect("mcp")
	text, failed := call(untrusted, "status", nil)
	assert.True(t, failed)
	assert.Contains(t, text, "is not running: start it with omnivigil start")
	untrusted.Close()

	s := connect("mcp", "--trust")
	listed, err := s.ListTools(ctx, nil)
	require.NoError(t, err)
	var names []string
	for _, tool := range listed.Tools {
		names = append(names, tool.Name)
	}
	assert.ElementsMatch(
		t,
		[]string{
			"wait",
			"status",
			"why",
			"ripples",
			"logs",
			"observe",
			"tests",
			"findings",
			"history",
			"narrow",
			"widen",
			"run",
			"restart",
			"stop",
			"screen",
			"type",
		},
		names,
	)
	says := func(tool string, args map[string]any, pattern string) {
		t.Helper()
		text, failed := call(s, tool, args)
		require.False(t, failed, text)
		assert.Regexp(t, pattern, text)
	}
	says("wait", nil, `^CURRENT: all 2 run`)
	b.write("fares.csv", "nothing\n")
	says("wait", nil, `^BROKEN: fares failed \(exit 3\)\nfares: failed, .*exit 3\n    error: no fare in fares.csv\n$`)
	says("why", map[string]any{"of": "fares"},
		`fares failed(?s:.*)how fares run 2 failed(?s:.*)error: no fare in fares.csv`)
	says("ripples", nil, `ripple 2 at .*: fares.csv\n(?s:.*)broken after(?s:.*)error: no fare`)
	says("logs", map[string]any{"unit": "fares", "lines": 3}, `error: no fare in fares.csv`)
	require.Eventually(t, func() bool {
		text, _ := call(s, "status", nil)
		return strings.Contains(text, "tides (service): ready, current; waits for an answer: high?")
	}, patience, 20*time.Millisecond)
	says(
		"screen",
		map[string]any{"unit": "tides"},
		`^tides run 1, 120 columns, 40 rows, now; the cursor is in row 1, column 7\nit waits for an answer: `+
			`high\?\nhigh\?\n`,
	)
	text, failed = call(s, "type", map[string]any{"unit": "tides", "text": "low"})
	assert.True(t, failed)
	assert.Contains(t, text, "has not allowed assistants to type into terminals: assistants_may_type = true")
	b.write("config/omnivigil/config.toml", "assistants_may_type = true\n")
	says("type", map[string]any{"unit": "tides", "text": "low"}, `Typed into tides`)
	require.Eventually(t, func() bool {
		text, _ := call(s, "screen", map[string]any{"unit": "tides"})
		return strings.Contains(text, "high? low\nlow water\n")
	}, patience, 20*time.Millisecond)
	says("why", map[string]any{"of": "fares.csv"}, `fares reruns: it matches "fares.csv"`)
	says("status", map[string]any{"unit": "fares"}, `files: fares.csv matches 1 file \(fares.csv\): reruns`)
	b.write("fares.csv", "a fare\n")
	says("wait", map[string]any{"units": []string{"fares"}}, `^CURRENT: fares runs the code saved`)
	says("stop", map[string]any{"units": []string{"tides"}}, `^That is ripple 4`)
	says("wait", nil, `^CURRENT: 1 of 2 run`)
	says("status", nil, `tides \(service\): stopped`)
	says("run", map[string]any{"units": []string{"tides"}}, `^That is ripple 5`)
	says("restart", map[string]any{"units": []string{"fares"}}, `^That is ripple 6`)
	text, failed = call(s, "restart", map[string]any{"units": []string{"rm -rf /"}})
	assert.True(t, failed)
	assert.Contains(t, text, `there is no unit or group "rm -rf /"; there are `)
	assert.Equal(t, "assistant", b.status().Faces[0].Kind)
	require.NoError(t, s.Close())
	require.Eventually(
		t,
		func() bool { _, code := b.run("status"); return code == 2 },
		patience,
		20*time.Millisecond,
		"it ends with its only face",
	)
	noneLeft(t, b.dir)
}

// TestWaitIsExact edits a real Go server repeatedly, with good and broken edits, and requires every wait to answer
// correctly: after a good edit the new code answers at once.
func TestWaitIsExact(t *testing.T) {
	t.Parallel()
	times := 60
	if n, err := strconv.Atoi(os.Getenv("OMNIVIGIL_EDITS")); err == nil {
		times = n
	}
	dir := t.TempDir()
	port := freePorts(1)[0]
	b := &background{t, dir}
	b.write("go.mod", "module harbour\n\ngo 1.24\n")
	b.write("main.go", serverMain)
	b.write("greeting/text.go", "package greeting\n\nconst Text = \"greeting 0\"\n")
	inBackground(t, dir, fmt.Sprintf(`
[service.web]
run = "go build -o web . && exec ./web"
env = { PORT = "%d" }
ready = { http = "http://127.0.0.1:%d/" }
watch = ["**/*.go"]
debounce = "20ms"
`, port, port))
	url := fmt.Sprintf("http://127.0.0.1:%d/", port)
	out, code := b.run("wait")
	require.Equal(t, 0, code, out)
	for n := range times {
		broken := n%5 == 3
		text := fmt.Sprintf("package greeting\n\nconst Text = \"greeting %d\"\n", n)
		if broken {
			text = fmt.Sprintf("package greeting\n\nconst Text = greeting %d\n", n)
		}
		b.write("greeting/text.go", text)
		out, code := b.run("wait", "--timeout", "60s")
		if broken {
			require.Equal(t, 1, code, out)
			require.Contains(t, out, "BROKEN  web crashed (exit 1)")
			require.Contains(t, out, "greeting/text.go:3:", "the line that says why")
			continue
		}
		require.Equal(t, 0, code, out)
		require.Regexp(t, fmt.Sprintf("^greeting %d ", n), get(url))
	}
}

// TestWaitForVersionControl waits, together with the lock of version control, for what was written while the lock was
// held.
func TestWaitForVersionControl(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	out, err := exec.Command("git", "init", "-q", dir).CombinedOutput()
	require.NoError(t, err, "%s", out)
	require.NoError(t, os.WriteFile(dir+"/fares.csv", nil, 0o644))
	b := inBackground(t, dir, "[task.fares]\nrun = \"cat fares.csv\"\nwatch = [\"fares.csv\"]\n")
	said, code := b.run("wait")
	require.Equal(t, 0, code, said)
	b.write(".git/index.lock", "")
	b.write("fares.csv", "4.20\n")
	said, code = b.run("wait", "--timeout", "300ms")
	require.Equal(t, 3, code, said)
	waiting := b.command("wait")
	require.NoError(t, waiting.Start())
	b.write("fares.csv", "4.30\n")
	require.NoError(t, os.Remove(filepath.Join(dir, ".git/index.lock")))
	require.NoError(t, waiting.Wait())
	said, _ = b.run("logs", "fares")
	require.Contains(t, said, "4.30")
}
