//go:build amd64 || arm64

package standby

import (
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// started is a process that waits, and what it writes.
type started struct {
	*Process
	t      *testing.T
	output *os.File
}

func start(t *testing.T) *started {
	t.Helper()
	ours, theirs, err := os.Pipe()
	require.NoError(t, err)
	defer theirs.Close()
	cmd := &exec.Cmd{Dir: t.TempDir(), Stdout: theirs, Stderr: theirs, SysProcAttr: &syscall.SysProcAttr{Setsid: true}}
	p, err := Start(cmd, "the next run of fares")
	require.NoError(t, err)
	t.Cleanup(func() { p.Close(); ours.Close() })
	return &started{p, t, ours}
}

// executes tells the process what to execute, and returns all that it writes.
func (s *started) executes(path string, argv, env []string) string {
	require.NoError(s.t, s.Tell(path, argv, env))
	require.NoError(s.t, s.Executed())
	out, err := io.ReadAll(s.output)
	require.NoError(s.t, err)
	return string(out)
}

func TestExecutes(t *testing.T) {
	large := strings.Repeat("x", 100_000)
	shell := func(words ...string) []string { return append([]string{"sh", "-c"}, words...) }
	for name, c := range map[string]struct {
		words, env []string
		want       string
	}{
		"arguments":     {words: shell(`echo "$0|$1|$2"`, "a", "", "b c"), want: "a||b c\n"},
		"an own name":   {words: []string{"-sh", "-c", "echo $0"}, want: "-sh\n"},
		"variables":     {words: shell("echo $A$B"), env: []string{"A=1", "B=2 3"}, want: "12 3\n"},
		"directory":     {words: shell(`[ "$(pwd)" = "$OLD" ] || echo other`), env: []string{"OLD="}, want: "other\n"},
		"more at once":  {words: shell("echo ${#A}"), env: []string{"A=" + large, "B=" + large}, want: "100000\n"},
		"no more files": {words: shell("(: <&3) 2>/dev/null && echo more; echo ok"), want: "ok\n"},
	} {
		t.Run(name, func(t *testing.T) {
			assert.Equal(t, c.want, start(t).executes("/bin/sh", c.words, c.env))
		})
	}
}

// TestWaits checks what a waiting process is to others: asleep, small, and with its own name.
func TestWaits(t *testing.T) {
	s := start(t)
	at := func(name string) string {
		text, err := os.ReadFile(fmt.Sprintf("/proc/%d/%s", s.Cmd.Process.Pid, name))
		require.NoError(t, err)
		return string(text)
	}
	assert.Equal(t, "the next run of fares\x00", at("cmdline"))
	assert.Empty(t, at("environ"))
	var private int
	for line := range strings.Lines(at("smaps_rollup")) {
		var kb int
		if _, err := fmt.Sscanf(line, "Private_Dirty: %d kB", &kb); err == nil {
			private += kb
		}
	}
	assert.Less(t, private, 100)
	assert.Equal(t, "/bin/sh", strings.TrimSpace(s.executes("/bin/sh", []string{"/bin/sh", "-c", "echo $0"}, nil)))
}

func TestCannotExecute(t *testing.T) {
	text := filepath.Join(t.TempDir(), "text")
	require.NoError(t, os.WriteFile(text, []byte("no program"), 0o755))
	for path, want := range map[string]error{
		"/nowhere": unix.ENOENT,
		"/":        unix.EACCES,
		text:       unix.ENOEXEC,
	} {
		s := start(t)
		require.NoError(t, s.Tell(path, []string{"x"}, nil))
		require.ErrorIs(t, s.Executed(), want)
		require.Error(t, s.Cmd.Wait())
	}
	require.Error(t, start(t).Tell("/bin/sh", []string{strings.Repeat("x", memorySize)}, nil))
	require.ErrorIs(t, start(t).Tell("/bin/sh", []string{"a\x00b"}, nil), unix.EINVAL)
}

// TestEnds ends the process before it is told anything.
func TestEnds(t *testing.T) {
	s := start(t)
	require.NoError(t, s.Cmd.Process.Kill())
	s.Cmd.Wait()
	require.ErrorIs(t, s.Tell("/bin/sh", []string{"sh"}, nil), ErrGone)

	s = start(t)
	s.ours.Close()
	assert.Equal(t, 127, exitCode(s.Cmd.Wait()))
}

func exitCode(err error) int {
	if exit, ok := err.(*exec.ExitError); ok {
		return exit.ExitCode()
	}
	return 0
}
