package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSilence stops the supervisor, as a debugger or a full machine does: every face reports that there is no answer,
// every command ends, and everything continues when the process does.
func TestSilence(t *testing.T) {
	dir := t.TempDir()
	b := inBackground(t, dir, "[service.tides]\nrun = \"while :; do sleep 1; done\"\n")
	out, code := b.run("wait")
	require.Equal(t, 0, code, out)
	s := openScreen(t, 110, 24, b.env(), dir, build(t), "attach")
	s.shows("CURRENT")
	wait := b.command("wait", "--timeout", "1h") // asked before, and not at rest
	supervisor := b.status().Project.Supervisor

	require.NoError(t, syscall.Kill(supervisor, syscall.SIGSTOP))
	t.Cleanup(func() { syscall.Kill(supervisor, syscall.SIGCONT) })
	require.True(t, holds(patience, func() bool { return isStopped(supervisor) }))
	said, err := wait.CombinedOutput()
	var failed *exec.ExitError
	require.ErrorAs(t, err, &failed)
	assert.Equal(t, 3, failed.ExitCode())
	assert.Contains(t, string(said), "no answer from the project")
	text := s.shows("NO ANSWER")
	assert.NotContains(t, strings.Split(text, "\n")[0], "CURRENT")
	var commands sync.WaitGroup
	for _, command := range [][]string{{"status"}, {"wait", "--timeout", "3s"}, {"logs", "-n", "1"},
		{"restart", "tides"}, {"tests"}, {"start"}} {
		commands.Go(func() {
			out, code := b.run(command...)
			assert.Equal(t, 3, code, "%s: %s", command, out)
		})
	}
	commands.Wait()

	require.NoError(t, syscall.Kill(supervisor, syscall.SIGCONT))
	s.shows("CURRENT")
	out, code = b.run("wait")
	assert.Equal(t, 0, code, out)
}

// isStopped reports whether all threads of a process are stopped: each has to run once more for that.
func isStopped(pid int) bool {
	threads, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", pid))
	for _, file := range threads {
		stat, _ := os.ReadFile(file)
		if _, rest, _ := strings.Cut(string(stat), ") "); !strings.HasPrefix(rest, "T") {
			return false
		}
	}
	return len(threads) > 0
}
