package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// hostile is a project whose processes try to outlive it. SLEEP is a duration by which a test recognizes its
// processes, even those that have lost their environment.
const hostile = `
[defaults]
stop = { grace = "10s" }
[service.plain]
run = "sleep SLEEP"
[service.deaf]
run = "trap '' TERM INT HUP; while :; do sleep 0.05; done"
[service.away]
run = "setsid sleep SLEEP & wait"
[service.twice]
run = "(setsid sh -c \"trap '' HUP TERM; sleep SLEEP & wait; sleep SLEEP\" &); sleep SLEEP"
[service.nameless]
run = "(env -i setsid sh -c '(sleep SLEEP &) & sleep 0.01' &); sleep SLEEP"
ready = { run = "(setsid sleep SLEEP &); sleep 0.05; false" }
[task.work]
run = "sleep 0.2; date > built"
watch = ["*.txt"]
[service.front]
run = "sleep SLEEP & sleep SLEEP & wait"
needs = ["work"]
follows = ["work"]
`

var sleeps atomic.Int64

// hostileProject returns the hostile project, and the duration by which its processes are recognized.
func hostileProject() (settings, sleep string) {
	sleep = fmt.Sprintf("%d.%d", 100000+sleeps.Add(1), os.Getpid())
	return strings.ReplaceAll(hostile, "SLEEP", sleep), sleep
}

// noSleeperWithin waits until no process sleeps for that duration.
func noSleeperWithin(t *testing.T, sleep string, limit time.Duration) {
	t.Helper()
	var left []byte
	if !holds(limit, func() bool {
		left, _ = exec.Command("pgrep", "-af", "^sleep "+sleep+"|sleep "+sleep+"$").Output()
		return len(left) == 0
	}) {
		require.FailNow(t, "left", "%s", left)
	}
}

// child returns the child of a process with a name; 0: there is none.
func child(parent int, name string) int {
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", parent))
	for _, list := range lists {
		data, _ := os.ReadFile(list)
		for _, word := range strings.Fields(string(data)) {
			if comm, _ := os.ReadFile("/proc/" + word + "/comm"); string(comm) == name+"\n" {
				pid, _ := strconv.Atoi(word)
				return pid
			}
		}
	}
	return 0
}

// The processes of a project that a face has started.
func theFace(face int) int       { return face }
func theWatchdog(face int) int   { return child(face, "vigil-guard") }
func theSupervisor(face int) int { return child(theWatchdog(face), "omnivigil") }

// runs reports whether a thread of a process is running: the first one may have ended while another one is still
// writing. A process that only was not reaped is not running.
func runs(pid int) bool {
	threads, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/stat", pid))
	return slices.ContainsFunc(threads, func(thread string) bool {
		stat, err := os.ReadFile(thread)
		return err == nil && !regexp.MustCompile(`\) [ZX] `).Match(stat)
	})
}

// noWriterIn waits until no thread is running that has the directory in its environment, also of a process that was
// too young to be found when another one was killed.
func noWriterIn(t *testing.T, dir string) {
	t.Helper()
	require.True(t, holds(patience, func() bool {
		threads, _ := filepath.Glob("/proc/[0-9]*/task/*/environ")
		return !slices.ContainsFunc(threads, func(thread string) bool {
			environ, _ := os.ReadFile(thread)
			return strings.Contains(string(environ), dir)
		})
	}))
}

// gone waits until none of the processes is running.
func gone(t *testing.T, pids ...int) {
	t.Helper()
	for _, pid := range pids {
		require.True(t, holds(patience, func() bool { return pid == 0 || !runs(pid) }), "%d runs", pid)
	}
}

// ends waits for a command, with a timeout.
func ends(t *testing.T, cmd *exec.Cmd, limit time.Duration) {
	t.Helper()
	done := make(chan struct{})
	go func() {
		cmd.Wait()
		close(done)
	}()
	select {
	case <-done:
	case <-time.After(limit):
		cmd.Process.Kill()
		t.Fatalf("%s does not end", cmd)
	}
}

// TestKilledAtAnyMoment kills one of Omnivigil's processes, a hundred times at random moments, and finds nothing left
// of what they started. Every other time the units are observed. The time until then is logged.
func TestKilledAtAnyMoment(t *testing.T) {
	t.Parallel()
	program := build(t)
	var longest atomic.Int64
	t.Cleanup(func() { t.Logf("nothing was left after %v at the latest", time.Duration(longest.Load())) })
	times := 100
	if testing.Short() {
		times = 12
	}
	for i := range times {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			settings, sleep := hostileProject()
			if i%2 == 1 {
				settings = strings.Replace(settings, "[defaults]", "[defaults]\nobserve = true", 1)
			}
			require.NoError(t, os.WriteFile(dir+"/omnivigil.toml", []byte(settings), 0o644))
			cmd := exec.Command(program, "start", "--plain", "--trust")
			cmd.Dir = dir
			cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+dir+"/state")
			require.NoError(t, cmd.Start())
			moment := time.Duration(rand.IntN(1200)) * time.Millisecond
			for until := time.Now().Add(moment); time.Now().Before(until); time.Sleep(10 * time.Millisecond) {
				if rand.IntN(10) == 0 {
					os.WriteFile(dir+"/a.txt", []byte(time.Now().String()), 0o644)
				}
			}
			victim := cmd.Process.Pid
			all := []int{theWatchdog(victim), theSupervisor(victim), victim}
			if which := all[i%3]; which != 0 {
				victim = which
			}
			require.NoError(t, syscall.Kill(victim, syscall.SIGKILL))
			began := time.Now()
			ends(t, cmd, patience)
			noneLeft(t, dir)
			noSleeperWithin(t, sleep, patience)
			for took := time.Since(began).Nanoseconds(); ; {
				if known := longest.Load(); took <= known || longest.CompareAndSwap(known, took) {
					break
				}
			}
			noWriterIn(t, dir)
		})
	}
}

// TestLeftoversAreOffered kills both of Omnivigil's processes at once, so that no process is left to clean up; the
// next start finds what they left and ends it.
func TestLeftoversAreOffered(t *testing.T) {
	t.Parallel()
	program, dir := build(t), t.TempDir()
	sleep := fmt.Sprintf("sleep %d", 100000+os.Getpid()) // unlike any other
	require.NoError(
		t,
		os.WriteFile(dir+"/omnivigil.toml", []byte("[service.tides]\nrun = \"trap '' HUP; exec "+sleep+"\"\n"), 0o644),
	)
	cmd := exec.Command(program, "start", "--plain", "--trust")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+dir+"/state")
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		out, _ := exec.Command("pgrep", "-f", "^"+sleep).Output()
		return len(out) > 0
	}, patience, 20*time.Millisecond)
	watchdog, supervisor := theWatchdog(cmd.Process.Pid), theSupervisor(cmd.Process.Pid)
	for _, pid := range []int{watchdog, supervisor} {
		require.NoError(t, syscall.Kill(pid, syscall.SIGSTOP)) // so that neither notices the other's end
	}
	for _, pid := range []int{watchdog, supervisor} {
		require.NoError(t, syscall.Kill(pid, syscall.SIGKILL))
	}
	ends(t, cmd, patience)
	gone(t, watchdog, supervisor) // otherwise they do not count as left over yet

	s := openScreen(t, 100, 20, []string{"XDG_STATE_HOME=" + dir + "/state"}, dir, program)
	s.shows(`left these processes running:\s+\d+ +tides +` + sleep)
	s.press("Enter")
	s.shows(`CURRENT`)
	out, _ := exec.Command("pgrep", "-fc", "^"+sleep).Output()
	require.Equal(t, "1", strings.TrimSpace(string(out)), "the old one is gone")
	s.press("q", "q")
	s.shows(`exit code 0`)
	noneLeft(t, dir)
}

// TestTerminalAfterAnyEnd ends the program on the screen in every way and finds the terminal usable: it echoes, and a
// line end is one line end.
func TestTerminalAfterAnyEnd(t *testing.T) {
	t.Parallel()
	program := build(t)
	for _, test := range []struct {
		name string
		sig  syscall.Signal
		who  func(face int) int
	}{
		{"supervisor killed", syscall.SIGKILL, theSupervisor},
		{"watchdog killed", syscall.SIGKILL, theWatchdog},
		{"face killed", syscall.SIGKILL, theFace},
		{"terminated", syscall.SIGTERM, theFace},
		{"hung up", syscall.SIGHUP, theFace},
		{"supervisor panicked", syscall.SIGQUIT, theSupervisor}, // Go's runtime crashes with a trace, as in a panic
		{"face panicked", syscall.SIGQUIT, theFace},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			settings, sleep := hostileProject()
			patient := strings.Replace(settings, `grace = "10s"`, `grace = "500ms"`, 1)
			require.NoError(t, os.WriteFile(dir+"/omnivigil.toml", []byte(patient), 0o644))
			s := openScreen(t, 100, 30, []string{"XDG_STATE_HOME=" + dir + "/state"}, dir, "bash --norc -i; true")
			s.shows(`(?m)[#$] *$`)
			s.press(program+" start --trust & echo $! > pid; fg", "Enter")
			s.shows(`CURRENT|UPDATING`)
			data, err := os.ReadFile(dir + "/pid")
			require.NoError(t, err)
			face, err := strconv.Atoi(strings.TrimSpace(string(data)))
			require.NoError(t, err)
			require.NoError(t, syscall.Kill(test.who(face), test.sig))
			noneLeft(t, dir)
			noSleeperWithin(t, sleep, patience)
			prompt := regexp.MustCompile(`[#$]\s*$`)
			require.Eventually(t, func() bool {
				s.press("Enter")
				return prompt.MatchString(s.text())
			}, patience, 200*time.Millisecond, "no prompt")
			s.press("stty -a | grep -c ' echo ' ; echo th'is line'", "Enter")
			text := s.shows(`(?m)^this line$`)
			require.NotContains(t, text, "CURRENT  ", "the screen is the shell's again")
		})
	}
}

// TestSuspendAndResume gives the terminal back to the shell and takes it again. The project keeps running.
func TestSuspendAndResume(t *testing.T) {
	t.Parallel()
	program, dir := build(t), t.TempDir()
	b := &background{t, dir}
	require.NoError(
		t,
		os.WriteFile(
			dir+"/omnivigil.toml",
			[]byte("[service.tides]\nrun = \"while :; do echo tide; sleep 0.2; done\"\n"),
			0o644,
		),
	)
	s := openScreen(t, 100, 20, b.env(), dir, "bash --norc -i; true")
	s.shows(`(?m)[#$] *$`)
	s.press(program+" start --trust", "Enter")
	s.shows(`CURRENT`)
	s.press("C-z")
	s.shows(`Stopped`)
	before := b.status().Lines
	require.Eventually(
		t,
		func() bool { return b.status().Lines > before+3 },
		patience,
		50*time.Millisecond,
		"its output is read",
	)
	s.press("echo in the' 'shell", "Enter")
	s.shows(`(?m)^in the shell$`)
	s.press("fg", "Enter")
	s.shows(`CURRENT +tides .run 1. runs`)
	s.press("q", "q")
	s.shows(`ran for`)
	noneLeft(t, dir)
}
