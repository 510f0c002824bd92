package e2e

import (
	"bytes"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/creack/pty"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// chatty is a project that writes more than a pipe holds.
const chatty = `
[service.tides]
run = "yes 'a line of the tide table, long enough to fill a pipe soon' | head -100000; exec sleep 1000"
ready = { file = "up" }
prelude = ["rm -f up; (sleep 0.2; touch up) &"]
`

// plainProject is a command that starts a project as a plain stream.
func plainProject(t *testing.T, settings string) (*exec.Cmd, string) {
	t.Helper()
	program, dir := build(t), t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "omnivigil.toml"), []byte(settings), 0o644))
	cmd := exec.Command(program, "start", "--plain", "--trust")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+dir+"/state")
	return cmd, dir
}

// TestEndsWithoutReader ends on TERM, and on the second INT, although its output is not read.
func TestEndsWithoutReader(t *testing.T) {
	t.Parallel()
	for name, signals := range map[string][]syscall.Signal{
		"terminated":        {syscall.SIGTERM},
		"interrupted twice": {syscall.SIGINT, syscall.SIGINT},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			cmd, dir := plainProject(t, chatty)
			reader, writer, err := os.Pipe()
			require.NoError(t, err)
			defer reader.Close()
			cmd.Stdout, cmd.Stderr = writer, writer
			require.NoError(t, cmd.Start())
			writer.Close()
			require.Eventually(
				t,
				func() bool { return fillsPipe(cmd.Process.Pid) },
				patience,
				20*time.Millisecond,
				"it writes into a full pipe",
			)
			for i, sig := range signals {
				if i > 0 {
					time.Sleep(time.Second) // two signals within a moment count as one
				}
				require.NoError(t, cmd.Process.Signal(sig))
			}
			ends(t, cmd, patience)
			noneLeft(t, dir)
		})
	}
}

// fillsPipe reports whether a thread of a process is blocked writing to a pipe.
func fillsPipe(pid int) bool {
	threads, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/wchan", pid))
	for _, file := range threads {
		if where, _ := os.ReadFile(file); bytes.Contains(where, []byte("pipe_write")) {
			return true
		}
	}
	return false
}

// TestReaderEnds ends in order when its reader is gone, which is not a failure.
func TestReaderEnds(t *testing.T) {
	t.Parallel()
	cmd, dir := plainProject(t, chatty)
	line := exec.Command("bash", "-c", cmd.Path+` start --plain --trust 2>err | head -1; echo "code ${PIPESTATUS[0]}"`)
	line.Dir, line.Env = dir, cmd.Env
	out, err := line.Output()
	require.NoError(t, err)
	assert.Contains(t, string(out), "ripple 1: the project starts")
	assert.Contains(t, string(out), "code 0")
	said, err := os.ReadFile(filepath.Join(dir, "err"))
	require.NoError(t, err)
	assert.Contains(t, string(said), "Output closed; everything was stopped.")
	noneLeft(t, dir)
}

// signalled sends a signal to the supervisor of a current project, and returns the exit status, standard error, and
// the project's directory.
func signalled(t *testing.T, sig syscall.Signal) (code int, said, dir string) {
	t.Helper()
	cmd, dir := plainProject(t, "[service.tides]\nrun = \"exec sleep 1000\"\n")
	out, errors := &safeBuffer{}, &safeBuffer{}
	cmd.Stdout, cmd.Stderr = out, errors
	require.NoError(t, cmd.Start())
	require.Eventually(
		t,
		func() bool { return strings.Contains(out.String(), "current after") },
		patience,
		10*time.Millisecond,
	)
	require.NoError(t, syscall.Kill(theSupervisor(cmd.Process.Pid), sig))
	ends(t, cmd, patience)
	return cmd.ProcessState.ExitCode(), errors.String(), dir
}

// TestKilledIsTold reports that the supervisor is gone, and where the log is.
func TestKilledIsTold(t *testing.T) {
	t.Parallel()
	code, said, dir := signalled(t, syscall.SIGKILL)
	assert.Equal(t, 1, code)
	assert.Regexp(t, `the process that ran \S+ is gone, and everything that it ran was ended.\nLogs: \S+`, said)
	noneLeft(t, dir)
}

// TestCrashIsTold writes the report of a crash into a file and prints its name.
func TestCrashIsTold(t *testing.T) {
	t.Parallel()
	code, said, dir := signalled(t, syscall.SIGQUIT) // the runtime crashes as after a panic
	assert.Equal(t, 70, code)
	assert.Contains(t, said, "omnivigil crashed: this is a bug. Everything that it ran was stopped.")
	reports, _ := filepath.Glob(filepath.Join(dir, "state/omnivigil/logs/*/*/crash.txt"))
	require.Len(t, reports, 1)
	report, err := os.ReadFile(reports[0])
	require.NoError(t, err)
	assert.Contains(t, string(report), "goroutine 1")
	noneLeft(t, dir)
}

// TestLogCannotBeWritten continues without its state directory, and reports it.
func TestLogCannotBeWritten(t *testing.T) {
	t.Parallel()
	cmd, dir := plainProject(t, "[service.tides]\nrun = \"echo high tide; exec sleep 1000\"\nsetup = [\"true\"]\n")
	require.NoError(t, os.WriteFile(filepath.Join(dir, "state"), nil, 0o600)) // in the directory's place
	out, said := &safeBuffer{}, &safeBuffer{}
	cmd.Stdout, cmd.Stderr = out, said
	require.NoError(t, cmd.Start())
	has := func(b *safeBuffer, text string) func() bool {
		return func() bool { return bytes.Contains([]byte(b.String()), []byte(text)) }
	}
	require.Eventually(t, has(out, "high tide"), patience, 10*time.Millisecond)
	require.Eventually(t, has(out, "current after"), patience, 10*time.Millisecond)
	require.Eventually(
		t,
		has(said, "the log cannot be written, output is kept in memory: not a directory"),
		patience,
		10*time.Millisecond,
	)
	assert.True(t, has(said, "you will be asked again next time")())
	require.NoError(t, cmd.Process.Signal(syscall.SIGINT))
	ends(t, cmd, patience)
	assert.Equal(t, 130, cmd.ProcessState.ExitCode())
	assert.True(t, has(said, "There are no logs")())
}

// TestProbesLeaveNothing ends what readiness commands have started after each attempt, and reaps it.
func TestProbesLeaveNothing(t *testing.T) {
	t.Parallel()
	cmd, dir := plainProject(
		t,
		"[service.tides]\nrun = \"exec sleep 1000\"\nready = { run = \"sleep 1001 & exit 1\", within = \"500ms\" }\n",
	)
	out := &safeBuffer{}
	cmd.Stdout = out
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		return bytes.Contains([]byte(out.String()), []byte("last seen: exit 1; it keeps running"))
	}, patience, 10*time.Millisecond)
	pid := theSupervisor(cmd.Process.Pid)
	require.Eventually(t, func() bool {
		// Its own process, and one attempt with its children, at most.
		return len(childrenOf(pid)) <= 3
	}, patience, time.Millisecond, "%v", childrenOf(pid))
	require.NoError(t, cmd.Process.Signal(syscall.SIGTERM))
	ends(t, cmd, patience)
	noneLeft(t, dir)
}

// childrenOf returns the children of a process, including those that have ended and were not reaped.
func childrenOf(pid int) (all []string) {
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", pid))
	for _, list := range lists {
		data, _ := os.ReadFile(list)
		for _, child := range bytes.Fields(data) {
			all = append(all, string(child))
		}
	}
	return all
}

// TestTerminalThatDoesNotRead blocks only the screen: the units keep running, and the screen ends on TERM and on the
// second INT.
func TestTerminalThatDoesNotRead(t *testing.T) {
	t.Parallel()
	for name, signals := range map[string][]syscall.Signal{
		"terminated":        {syscall.SIGTERM},
		"interrupted twice": {syscall.SIGINT, syscall.SIGINT},
	} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			b := &background{t, t.TempDir()}
			b.write(
				"omnivigil.toml",
				"[service.tides]\nrun = \"i=0; while :; do i=$((i+1)); echo tide $i at $RANDOM; sleep 0.01; done\"\n",
			)
			cmd := b.command("start", "--trust")
			cmd.Env = append(cmd.Env, "TERM=xterm-256color")
			terminal, err := pty.StartWithSize(cmd, &pty.Winsize{Rows: 50, Cols: 200})
			require.NoError(t, err)
			defer terminal.Close()
			// The screen fills the terminal, which has no reader.
			require.Eventually(t, func() bool { return waitsToWrite(cmd.Process.Pid) }, patience, 20*time.Millisecond)
			count := func() int { return int(b.status().Lines) }
			before := count()
			require.Eventually(
				t,
				func() bool { return count() > before+50 },
				patience,
				20*time.Millisecond,
				"its output is read all the same",
			)
			for i, sig := range signals {
				if i > 0 {
					time.Sleep(time.Second) // two within a moment count as one
				}
				require.NoError(t, cmd.Process.Signal(sig))
			}
			ends(t, cmd, patience)
			noneLeft(t, b.dir)
		})
	}
}

// waitsToWrite reports whether a thread of a process is blocked writing to a terminal.
func waitsToWrite(pid int) bool {
	threads, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/syscall", pid))
	for _, file := range threads {
		if call, _ := os.ReadFile(file); bytes.HasPrefix(call, []byte("1 0x1 ")) { // write(2) to standard output
			return true
		}
	}
	return false
}

// TestLostScreen kills the only screen of a foreground project: the project waits for another one, and ends without it.
func TestLostScreen(t *testing.T) {
	t.Parallel()
	b := &background{t, t.TempDir()}
	b.write("omnivigil.toml", "[service.tides]\nrun = \"exec sleep 1000\"\n")
	b.write("config/omnivigil/config.toml", "leave = \"4s\"\n")
	program := build(t)
	lose := func(words ...string) {
		t.Helper()
		s := openScreen(t, 100, 20, b.env(), b.dir, append([]string{program}, words...)...)
		s.shows(`CURRENT`)
		for _, f := range b.status().Faces {
			require.NoError(t, syscall.Kill(f.PID, syscall.SIGKILL))
		}
	}
	lose("start", "--trust")
	require.True(t, holds(patience, func() bool { return len(b.status().Faces) == 0 }))
	out, _ := b.run("logs", "--only", "event=note")
	require.Contains(t, out, "the last screen is gone: everything ends in 4.00 s, unless one is attached")
	pid := b.status().Unit("tides").Run.PID
	lose("attach")
	require.Equal(t, pid, b.status().Unit("tides").Run.PID, "it has kept running")
	noneLeft(t, b.dir)

	// A foreground project can become a background one, and back.
	s := openScreen(t, 100, 20, b.env(), b.dir, program, "start", "--trust")
	s.shows(`CURRENT`)
	s.press("q", "Enter")
	s.shows(`keeps running\. omnivigil attach shows it again`)
	out, code := b.run("keep", "--off")
	require.Equal(t, 2, code, out)
	require.Contains(t, out, "no screen is attached")
	s = openScreen(t, 100, 20, b.env(), b.dir, program, "attach")
	s.shows(`CURRENT .*\n.*`)
	out, code = b.run("keep", "--off")
	require.Equal(t, 0, code, out)
	s.press("q")
	s.shows(`Leave .*1 unit running`)
	s.press("q")
	s.shows(`exit code 0`)
	noneLeft(t, b.dir)
}
