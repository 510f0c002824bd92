//go:build unix

package process

import (
	"bytes"
	"os"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// run starts a shell script and returns channels for its output and its end, which are closed when it has ended.
type running struct {
	*Process
	mu     sync.Mutex
	out    bytes.Buffer
	exited chan Exit
}

func (r *running) text() string {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.out.String()
}

func (r *running) wait(t *testing.T) Exit {
	t.Helper()
	select {
	case x := <-r.exited:
		return x
	case <-time.After(time.Minute):
		t.Fatalf("no end; it wrote %q", r.text())
		return Exit{}
	}
}

var spawner = New(nil)

// waitsIn makes this program another one that has a spare, and waits: see TestSpareEndsWithItsParent.
const waitsIn = "OMNIVIGIL_TEST_WAITS_IN"

func TestMain(m *testing.M) {
	if dir := os.Getenv(waitsIn); dir != "" {
		waitWithSpare(dir)
	}
	if err := BecomeSubreaper(); err != nil {
		panic(err)
	}
	os.Exit(m.Run())
}

func start(t *testing.T, argv ...string) *running {
	t.Helper()
	return startIn(t, spawner, Spec{Argv: argv, Dir: t.TempDir()})
}

// startIn starts what is specified, with an own environment and size unless these are, too.
func startIn(t *testing.T, s *Spawner, spec Spec) *running {
	t.Helper()
	r := &running{exited: make(chan Exit, 1)}
	if spec.Cols == 0 {
		spec.Cols, spec.Rows = 100, 30
	}
	if spec.Env == nil {
		spec.Env = os.Environ()
	}
	spec.Output = func(p []byte) {
		r.mu.Lock()
		defer r.mu.Unlock()
		r.out.Write(p)
	}
	spec.Exited = func(x Exit) { r.exited <- x }
	p, err := s.Start(spec)
	require.NoError(t, err)
	r.Process = p
	return r
}

func TestEnds(t *testing.T) {
	for _, test := range []struct {
		name, script string
		exit         Exit
		out          string
	}{
		{"well", "echo fine", Exit{}, "fine\r\n"},
		{"with a code", "exit 3", Exit{Code: 3}, ""},
		{"by a signal", "kill -SEGV $$", Exit{Code: -1, Signal: "SIGSEGV"}, ""},
		{"last words without a line's end", "printf last", Exit{}, "last"},
		{"on a terminal of that size", "stty size", Exit{}, "30 100\r\n"},
		{"closing its output first", "exec >&- 2>&- </dev/null; exit 4", Exit{Code: 4}, ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			r := start(t, "/bin/sh", "-c", test.script)
			x := r.wait(t)
			x.Core = false
			assert.Equal(t, test.exit, x)
			assert.Equal(t, test.out, r.text())
		})
	}
}

func TestAllOutputArrivesBeforeTheEnd(t *testing.T) {
	r := start(t, "/bin/sh", "-c", "seq 1 200000")
	r.wait(t)
	lines := strings.Split(strings.TrimSpace(r.text()), "\r\n")
	require.Len(t, lines, 200000)
	assert.Equal(t, "200000", lines[len(lines)-1])
}

// TestFlood reads a hundred megabytes, without loss, from a process that writes as fast as it can.
func TestFlood(t *testing.T) {
	const size = 100_000_000
	var lines atomic.Int64
	exited := make(chan Exit, 1)
	_, err := spawner.Start(Spec{
		Argv: []string{
			"/bin/sh",
			"-c",
			"yes 'a line of output' | head -c 100000000",
		},
		Dir:    t.TempDir(),
		Env:    os.Environ(),
		Cols:   80,
		Rows:   24,
		Output: func(p []byte) { lines.Add(int64(bytes.Count(p, []byte{'\n'}))) },
		Exited: func(x Exit) { exited <- x },
	})
	require.NoError(t, err)
	select {
	case x := <-exited:
		assert.Equal(t, Exit{}, x)
	case <-time.After(60 * time.Second):
		t.Fatal("no end")
	}
	assert.EqualValues(t, size/len("a line of output\n"), lines.Load())
}

func eventually(t *testing.T, what string, ok func() bool) {
	t.Helper()
	require.Eventually(t, ok, time.Minute, 2*time.Millisecond, what)
}

func TestSignalReachesGrandchildren(t *testing.T) {
	r := start(t, "/bin/sh", "-c", `sh -c 'sleep 1000 & echo child $!; wait' & sleep 1000 & echo child $!; wait`)
	eventually(t, "both are up", func() bool { return strings.Count(r.text(), "\n") == 2 })
	pids := regexp.MustCompile(`\d+`).FindAllString(r.text(), -1)
	require.Len(t, pids, 2)
	require.NoError(t, r.Signal("TERM"))
	assert.Equal(t, "SIGTERM", r.wait(t).Signal)
	for _, text := range pids {
		pid, _ := strconv.Atoi(text)
		assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH, "grandchild %d", pid)
	}
	assert.NoError(t, r.Signal("TERM"), "a group that is gone is no error")
}

func TestIgnoredSignalNeedsKill(t *testing.T) {
	r := start(t, "/bin/sh", "-c", `trap '' TERM; echo up; while :; do sleep 0.01; done`)
	eventually(t, "it is up", func() bool { return strings.Contains(r.text(), "up") })
	require.NoError(t, r.Signal("TERM"))
	require.NoError(t, r.Signal("KILL"))
	assert.Equal(t, "SIGKILL", r.wait(t).Signal)
}

func TestLeftoversEndWithTheirLeader(t *testing.T) {
	r := start(t, "/bin/sh", "-c", `sleep 1000 & echo $!; exit 0`)
	assert.Equal(t, Exit{}, r.wait(t))
	pid, err := strconv.Atoi(strings.TrimSpace(r.text()))
	require.NoError(t, err)
	stat, _ := os.ReadFile(filepath.Join("/proc", strconv.Itoa(pid), "stat"))
	assert.NotContains(t, string(stat), "(sleep) S")
}

func TestCannotStart(t *testing.T) {
	dir := t.TempDir()
	for _, test := range []struct {
		argv []string
		dir  string
		want string
	}{
		{[]string{"no-such-program"}, dir, `command not found: "no-such-program" is not in PATH`},
		{[]string{"/bin/no-such-shell", "-c", "true"}, dir, "there is no program /bin/no-such-shell"},
		{[]string{"slepe", "1"}, dir, `command not found: "slepe"; did you mean "sleep"?`},
		{[]string{"./no-such"}, dir, "there is no program " + dir + "/no-such"},
		{[]string{"true"}, dir + "/gone", "its directory " + dir + "/gone does not exist"},
	} {
		_, err := spawner.Start(Spec{Argv: test.argv, Dir: test.dir, Env: os.Environ(), Cols: 80, Rows: 24})
		assert.ErrorContains(t, err, test.want)
	}
}
