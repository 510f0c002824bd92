package process

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func init() {
	if os.Getenv("OMNIVIGIL_HEADLESS") != "" {
		liveWithoutFirstThread()
	}
	if script := os.Getenv("OMNIVIGIL_END_ALL"); script != "" {
		endAll(script)
	}
}

// liveWithoutFirstThread ends the process's first thread and keeps another, so that /proc shows a process that has
// ended but still holds its files and ports.
func liveWithoutFirstThread() {
	runtime.LockOSThread()
	go func() {
		for {
			if m, ok := readMember(os.Getpid()); ok && m.gone() {
				fmt.Println(os.Getpid())
				select {}
			}
			runtime.Gosched()
		}
	}()
	syscall.RawSyscall(syscall.SYS_EXIT, 0, 0, 0)
}

// aStepAhead is a script that starts itself again and ends, every few milliseconds, for half a minute at most.
const aStepAhead = `n=$((${1:-0} + 1)); [ $n -lt 6000 ] || exit
sleep 0.003
sh "$0" $n & exit
`

// endAll runs a script and ends all processes that it has started, wherever they are.
func endAll(script string) {
	if err := BecomeSubreaper(); err != nil {
		panic(err)
	}
	exec.Command("/bin/sh", "-c", script).Run()
	deadline := time.Now().Add(300 * time.Millisecond)
	EndDescendants(func() bool { return time.Now().Before(deadline) })
	os.Exit(0)
}

// TestEndDescendants leaves no process, not even of a script that is always a step ahead.
func TestEndDescendants(t *testing.T) {
	step := filepath.Join(t.TempDir(), "step")
	require.NoError(t, os.WriteFile(step, []byte(aStepAhead), 0o600))
	for _, script := range []string{
		`env -i setsid sh ` + step + ` & sleep 0.1`,
		`setsid sh -c "trap '' TERM; while :; do sleep 0.01; done # ` + step + `" & sleep 0.1`,
		`true`,
	} {
		program, err := os.Executable()
		require.NoError(t, err)
		ctx, stop := context.WithTimeout(t.Context(), 20*time.Second)
		defer stop()
		c := exec.CommandContext(ctx, program)
		c.Env = append(os.Environ(), "OMNIVIGIL_END_ALL="+script)
		require.NoError(t, c.Run())
		require.Empty(t, runningWith(step))
	}
}

// TestStrays ends processes that tried to leave their run.
func TestStrays(t *testing.T) {
	program, err := os.Executable()
	require.NoError(t, err)
	for _, test := range []struct{ name, script string }{
		{"in a session of its own", `setsid sh -c 'echo $$; exec sleep 1000'& wait`},
		{"in a process group of its own", `set -m; sh -c 'echo $$; exec sleep 1000' & wait`},
		{"orphaned by forking twice", `(setsid sh -c 'echo $$; exec sleep 1000' &) ; sleep 1000`},
		{"outliving its leader", `(setsid sh -c 'echo $$; exec sleep 1000' &) ; sleep 0.3; exit 3`},
		{"without its first thread", `(OMNIVIGIL_HEADLESS=1 setsid ` + program + ` &) ; sleep 0.3; exit 3`},
		{"deaf to its signal", `(setsid sh -c "trap '' TERM; echo \$\$; while :; do sleep 0.01; done" &) ; sleep 1000`},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			r := start(t, "/bin/sh", "-c", test.script)
			eventually(t, "it is up", func() bool { return strings.HasSuffix(r.text(), "\n") })
			pid, err := strconv.Atoi(strings.TrimSpace(r.text()))
			require.NoError(t, err)
			spawner.Survey() // it is known
			if !strings.Contains(test.script, "exit 3") {
				require.NoError(t, r.Signal("TERM"))
				if strings.Contains(test.script, "trap") {
					require.NoError(t, r.Signal("KILL"))
				}
			}
			r.wait(t)
			assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH)
		})
	}
}

// TestAlwaysAStepAhead ends a process that starts another every few milliseconds and ends itself, so that no list of
// processes is ever current.
func TestAlwaysAStepAhead(t *testing.T) {
	step := filepath.Join(t.TempDir(), "step")
	require.NoError(t, os.WriteFile(step, []byte(aStepAhead), 0o600))
	for _, test := range []struct{ name, script string }{
		{"when its leader ends", `(setsid sh ` + step + ` &) ; sleep 0.3; exit 3`},
		{"when it is stopped", `(setsid sh ` + step + ` &) ; echo up; sleep 1000`},
		{"as the leader", `sh ` + step + ` & exit`},
	} {
		t.Run(test.name, func(t *testing.T) {
			r := start(t, "/bin/sh", "-c", test.script)
			if strings.Contains(test.script, "up") {
				eventually(t, "it is up", func() bool { return strings.Contains(r.text(), "up") })
				for range 20 {
					spawner.Survey()
				}
				require.NoError(t, r.Signal("TERM"))
			}
			r.wait(t)
			for range 5 {
				require.Empty(t, runningWith(step), "a process of it is left")
			}
		})
	}
}

// runningWith returns the processes that have a word in their command line.
func runningWith(word string) []string {
	var found []string
	files, _ := filepath.Glob("/proc/[0-9]*/cmdline")
	for _, f := range files {
		if line, _ := os.ReadFile(f); strings.Contains(string(line), word) {
			found = append(found, f)
		}
	}
	return found
}

// TestGroupOfNobody never signals group 0, which is the caller's own (kill(2)): the kernel shows -1 for a process
// that is being removed from its table.
func TestGroupOfNobody(t *testing.T) {
	tr := newTracker()
	p := &Process{PID: 1 << 30}
	tr.add(p)
	tr.known[ident{7, 7}] = p
	tr.sort([]member{{pid: 7, born: 7, state: 'X'}})
	assert.Equal(t, []int{p.PID}, tr.groupsOf(p))
}

// TestNothingIsKept checks that the tracker forgets a run with all of its processes in other sessions.
func TestNothingIsKept(t *testing.T) {
	s := New(nil)
	for range 5 {
		done := make(chan Exit, 1)
		_, err := s.Start(
			Spec{
				Argv:   []string{"/bin/sh", "-c", "setsid sleep 0.05 & setsid sleep 0.05 & sleep 0.03"},
				Dir:    t.TempDir(),
				Env:    os.Environ(),
				Cols:   80,
				Rows:   24,
				Output: func([]byte) {},
				Exited: func(x Exit) { done <- x },
			},
		)
		require.NoError(t, err)
		for ended := false; !ended; {
			s.Survey()
			select {
			case <-done:
				ended = true
			default:
			}
		}
	}
	s.Survey()
	s.mu.Lock()
	defer s.mu.Unlock()
	assert.Empty(t, s.tracker.sessions)
	assert.Empty(t, s.tracker.known)
	assert.Empty(t, s.tracker.leaders)
}

// TestSignalToTheLeaderAlone leaves the children of the process alone, and when the process ends by that signal, its
// leftovers are ended as after any other end.
func TestSignalToTheLeaderAlone(t *testing.T) {
	r := start(
		t,
		"/bin/sh",
		"-c",
		`trap 'echo heard' HUP; trap 'exit 3' USR1; sleep 1000 & echo "up $!"; while :; do wait; done`,
	)
	eventually(t, "it is up", func() bool { return strings.Contains(r.text(), "up") })
	pid, err := strconv.Atoi(strings.Fields(r.text())[1])
	require.NoError(t, err)
	require.NoError(t, r.SignalLeader("HUP"))
	eventually(t, "it has heard", func() bool { return strings.Contains(r.text(), "heard") })
	assert.NoError(t, syscall.Kill(pid, 0), "its child keeps running")
	require.NoError(t, r.SignalLeader("USR1"))
	assert.Equal(t, Exit{Code: 3}, r.wait(t))
	assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH)
}

func TestWithoutATerminal(t *testing.T) {
	for kind, want := range map[Terminal]string{
		OwnTerminal: "shown, controls", ShownTerminal: "shown, no control", NoTerminal: "none, no control",
	} {
		var out strings.Builder
		exited := make(chan Exit, 1)
		_, err := spawner.Start(Spec{
			Argv: []string{
				"/bin/sh",
				"-c",
				`if [ -t 1 ]; then printf 'shown, '; else printf 'none, '; fi; if (: </dev/tty) 2>/dev/null; then ` +
					`printf controls; else printf 'no control'; fi`,
			},
			Dir:      t.TempDir(),
			Env:      os.Environ(),
			Cols:     80,
			Rows:     24,
			Terminal: kind,
			Output:   func(p []byte) { out.Write(p) },
			Exited:   func(x Exit) { exited <- x },
		})
		require.NoError(t, err)
		<-exited
		assert.Equal(t, want, out.String())
	}
}
