package e2e

import (
	"fmt"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strconv"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// hostile is a project whose processes try to outlive it.
const hostile = `
[defaults]
stop = { grace = "10s" }
[service.plain]
run = "sleep 1000"
[service.deaf]
run = "trap '' TERM INT HUP; while :; do sleep 0.05; done"
[service.away]
run = "setsid sleep 1000 & wait"
[service.twice]
run = "(setsid sh -c \"trap '' HUP TERM; sleep 1000 & wait; sleep 1000\" &); sleep 1000"
[task.work]
run = "sleep 0.2; date > built"
watch = ["*.txt"]
[service.front]
run = "sleep 1000 & sleep 1000 & wait"
needs = ["work"]
follows = ["work"]
`

// inner returns the process that the guarding one has started, 0 if there is none.
func inner(outer int) int {
	lists, _ := filepath.Glob(fmt.Sprintf("/proc/%d/task/*/children", outer))
	for _, list := range lists {
		data, _ := os.ReadFile(list)
		for _, word := range strings.Fields(string(data)) {
			if comm, _ := os.ReadFile("/proc/" + word + "/comm"); string(comm) == "omnivigil\n" {
				pid, _ := strconv.Atoi(word)
				return pid
			}
		}
	}
	return 0
}

// runs reports whether a process runs; one that has only not been collected does not.
func runs(pid int) bool {
	stat, err := os.ReadFile(fmt.Sprintf("/proc/%d/stat", pid))
	return err == nil && !regexp.MustCompile(`\) [ZX] `).Match(stat)
}

// ends waits for a command, but not for ever.
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

// TestKilledAtAnyMoment kills Omnivigil, the outer or the inner one, a hundred
// times at random moments, and finds nothing left of what it started.
func TestKilledAtAnyMoment(t *testing.T) {
	program := build(t)
	times := 100
	if testing.Short() {
		times = 12
	}
	for i := range times {
		t.Run(fmt.Sprint(i), func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			require.NoError(t, os.WriteFile(dir+"/omnivigil.toml", []byte(hostile), 0o644))
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
			other := inner(victim)
			if other != 0 && i%2 == 0 {
				victim = other
			}
			require.NoError(t, syscall.Kill(victim, syscall.SIGKILL))
			ends(t, cmd, 5*time.Second)
			noneLeftWithin(t, dir, 3*time.Second)
			if other != 0 { // it may still be writing into the folder
				require.Eventually(t, func() bool { return !runs(other) }, 5*time.Second, 5*time.Millisecond)
			}
		})
	}
}

// TestLeftoversAreOffered kills both of Omnivigil's processes at once, so that
// nobody is left to clean up; the next start finds what they left and ends it.
func TestLeftoversAreOffered(t *testing.T) {
	program, dir := build(t), t.TempDir()
	sleep := fmt.Sprintf("sleep %d", 100000+os.Getpid()) // to be told from every other
	require.NoError(t, os.WriteFile(dir+"/omnivigil.toml", []byte("[service.tides]\nrun = \"trap '' HUP; exec "+sleep+"\"\n"), 0o644))
	cmd := exec.Command(program, "start", "--plain", "--trust")
	cmd.Dir = dir
	cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+dir+"/state")
	cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true}
	require.NoError(t, cmd.Start())
	require.Eventually(t, func() bool {
		out, _ := exec.Command("pgrep", "-f", "^"+sleep).Output()
		return len(out) > 0
	}, 10*time.Second, 20*time.Millisecond)
	require.NoError(t, syscall.Kill(-cmd.Process.Pid, syscall.SIGKILL))
	ends(t, cmd, 5*time.Second)

	s := openScreen(t, 100, 20, []string{"XDG_STATE_HOME=" + dir + "/state"}, dir, program)
	s.shows(`left these processes running:\s+\d+ +tides +` + sleep)
	s.press("Enter")
	s.shows(`CURRENT`)
	out, _ := exec.Command("pgrep", "-fc", "^"+sleep).Output()
	require.Equal(t, "1", strings.TrimSpace(string(out)), "the old one is gone")
	s.press("q")
	s.shows(`exit code 0`)
	noneLeft(t, dir)
}

// TestTerminalAfterAnyEnd ends the program on the screen in every way and finds
// the terminal usable: what is typed shows, and a line's end is one.
func TestTerminalAfterAnyEnd(t *testing.T) {
	program := build(t)
	for _, test := range []struct {
		name string
		sig  syscall.Signal
		who  func(outer int) int
	}{
		{"inner killed", syscall.SIGKILL, inner},
		{"outer killed", syscall.SIGKILL, func(outer int) int { return outer }},
		{"terminated", syscall.SIGTERM, func(outer int) int { return outer }},
		{"hung up", syscall.SIGHUP, func(outer int) int { return outer }},
		{"panicked", syscall.SIGQUIT, inner}, // Go's runtime ends with a trace, as in a panic
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			dir := t.TempDir()
			patient := strings.Replace(hostile, `grace = "10s"`, `grace = "500ms"`, 1)
			require.NoError(t, os.WriteFile(dir+"/omnivigil.toml", []byte(patient), 0o644))
			s := openScreen(t, 100, 30, []string{"XDG_STATE_HOME=" + dir + "/state"}, dir, "bash --norc -i; true")
			s.shows(`(?m)[#$] *$`)
			s.press(program+" start --trust & echo $! > pid; fg", "Enter")
			s.shows(`CURRENT|UPDATING`)
			data, err := os.ReadFile(dir + "/pid")
			require.NoError(t, err)
			outer, err := strconv.Atoi(strings.TrimSpace(string(data)))
			require.NoError(t, err)
			require.NoError(t, syscall.Kill(test.who(outer), test.sig))
			noneLeftWithin(t, dir, 5*time.Second)
			prompt := regexp.MustCompile(`[#$]\s*$`)
			require.Eventually(t, func() bool {
				s.press("Enter")
				return prompt.MatchString(s.text())
			}, 10*time.Second, 200*time.Millisecond, "no prompt")
			s.press("stty -a | grep -c ' echo ' ; echo th'is line'", "Enter")
			text := s.shows(`(?m)^this line$`)
			require.NotContains(t, text, "CURRENT  ", "the screen is the shell's again")
		})
	}
}

// TestSuspendAndResume gives the terminal back to the shell and takes it again.
func TestSuspendAndResume(t *testing.T) {
	program, dir := build(t), t.TempDir()
	require.NoError(t, os.WriteFile(dir+"/omnivigil.toml", []byte("[service.tides]\nrun = \"while :; do echo tide; sleep 0.2; done\"\n"), 0o644))
	s := openScreen(t, 100, 20, []string{"XDG_STATE_HOME=" + dir + "/state"}, dir, "bash --norc -i; true")
	s.shows(`(?m)[#$] *$`)
	s.press(program+" start --trust", "Enter")
	s.shows(`CURRENT`)
	s.press("C-z")
	s.shows(`Stopped`)
	s.press("echo in the' 'shell", "Enter")
	s.shows(`(?m)^in the shell$`)
	s.press("fg", "Enter")
	s.shows(`CURRENT +tides runs`)
	s.press("q")
	s.shows(`ran for`)
	noneLeft(t, dir)
}
