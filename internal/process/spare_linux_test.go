//go:build amd64 || arm64

package process

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// workshop is a spawner with a spare for a unit.
type workshop struct {
	*Spawner
	t   *testing.T
	dir string
}

func newWorkshop(t *testing.T) *workshop {
	w := &workshop{New(nil), t, t.TempDir()}
	t.Cleanup(w.Close)
	w.runs("true")
	return w
}

// spec is a run of a script that may be started again.
func (w *workshop) spec(script string) Spec {
	return Spec{Name: "fares", Argv: []string{"/bin/sh", "-c", script}, Dir: w.dir, Again: true}
}

// runs runs a script to its end.
func (w *workshop) runs(script string) *running {
	w.t.Helper()
	r := startIn(w.t, w.Spawner, w.spec(script))
	r.wait(w.t)
	return r
}

// waiting are the numbers of the processes that wait.
func (w *workshop) waiting() (pids []int) {
	w.mu.Lock()
	defer w.mu.Unlock()
	for _, one := range w.spares.all {
		pids = append(pids, one.Cmd.Process.Pid)
	}
	return pids
}

// spare waits until there is one, and returns its number.
func (w *workshop) spare() int {
	w.t.Helper()
	eventually(w.t, "a process waits", func() bool { return len(w.waiting()) == 1 })
	return w.waiting()[0]
}

func TestSpareRunsWhatIsStarted(t *testing.T) {
	w := newWorkshop(t)
	script := filepath.Join(w.dir, "script")
	change := func(text string) { require.NoError(t, os.WriteFile(script, []byte("#!/bin/sh\n"+text+"\n"), 0o755)) }
	change("echo old")
	for _, test := range []struct {
		name string
		spec Spec
		want string
	}{
		{"a variable", Spec{Argv: []string{"/bin/sh", "-c", "echo $RUN-$HOME"}, Env: []string{"RUN=7"}}, "7-\r\n"},
		{"another size", Spec{Argv: []string{"/bin/sh", "-c", "stty size"}, Cols: 70, Rows: 20}, "20 70\r\n"},
		{"its directory", Spec{Argv: []string{"/bin/pwd"}}, w.dir + "\r\n"},
		{"a program that has changed", Spec{Argv: []string{script}}, "new\r\n"},
		{"its own session and terminal", Spec{Argv: []string{
			"/bin/sh", "-c",
			"ps -o sid=,tpgid= -p $$ | tr -d ' ' >/dev/tty; [ $(ps -o sid= -p $$) = $$ ] && echo leads",
		}}, ""},
		{"a code", Spec{Argv: []string{"/bin/sh", "-c", "exit 3"}}, ""},
	} {
		t.Run(test.name, func(t *testing.T) {
			pid := w.spare()
			change("echo new")
			test.spec.Name, test.spec.Dir, test.spec.Again = "fares", w.dir, true
			r := startIn(t, w.Spawner, test.spec)
			x := r.wait(t)
			assert.Equal(t, pid, r.PID)
			switch test.name {
			case "its own session and terminal":
				assert.Contains(t, r.text(), fmt.Sprintf("%d%d\r\nleads\r\n", pid, pid))
			case "a code":
				assert.Equal(t, Exit{Code: 3}, x)
			default:
				assert.Equal(t, test.want, r.text())
			}
		})
	}
}

func TestSpareIsFollowed(t *testing.T) {
	w := newWorkshop(t)
	pid := w.spare()
	r := startIn(t, w.Spawner, w.spec("setsid sh -c 'echo $$; exec sleep 1000' & wait"))
	eventually(t, "the child is up", func() bool { return strings.Contains(r.text(), "\n") })
	require.NoError(t, r.Signal("TERM"))
	assert.Equal(t, "SIGTERM", r.wait(t).Signal)
	assert.Equal(t, pid, r.PID)
	child, err := strconv.Atoi(strings.TrimSpace(r.text()))
	require.NoError(t, err)
	assert.ErrorIs(t, syscall.Kill(child, 0), syscall.ESRCH)
}

// TestSpareDoesNotFit starts runs for which the process that waits cannot be used.
func TestSpareDoesNotFit(t *testing.T) {
	for name, change := range map[string]func(w *workshop, spec *Spec){
		"it was killed":              func(w *workshop, _ *Spec) { syscall.Kill(w.spare(), syscall.SIGKILL) },
		"another directory":          func(_ *workshop, spec *Spec) { spec.Dir = t.TempDir() },
		"another kind of terminal":   func(_ *workshop, spec *Spec) { spec.Terminal = ShownTerminal },
		"not to be started again":    func(_ *workshop, spec *Spec) { spec.Again = false },
		"a large environment":        func(_ *workshop, spec *Spec) { spec.Env = manyVariables() },
		"the directory was replaced": func(w *workshop, _ *Spec) { replace(t, w.dir) },
	} {
		t.Run(name, func(t *testing.T) {
			w := newWorkshop(t)
			pid := w.spare()
			spec := w.spec("pwd")
			change(w, &spec)
			r := startIn(t, w.Spawner, spec)
			assert.Equal(t, Exit{}, r.wait(t))
			assert.Equal(t, spec.Dir+"\r\n", r.text())
			assert.NotEqual(t, pid, r.PID)
			if spec.Again {
				eventually(t, "the other one is gone", func() bool { return syscall.Kill(pid, 0) == syscall.ESRCH })
			}
		})
	}
}

func replace(t *testing.T, dir string) {
	require.NoError(t, os.Rename(dir, dir+".old"))
	require.NoError(t, os.Mkdir(dir, 0o755))
}

// manyVariables are more than a process that waits accepts.
func manyVariables() []string {
	var env []string
	for n := range 20 {
		env = append(env, fmt.Sprintf("LARGE_%d=%s", n, strings.Repeat("x", 60_000)))
	}
	return env
}

func TestSpareCannotRun(t *testing.T) {
	w := newWorkshop(t)
	text := filepath.Join(w.dir, "text")
	require.NoError(t, os.WriteFile(text, []byte("no program"), 0o755))
	pid := w.spare()
	spec := w.spec("")
	spec.Argv, spec.Env = []string{text}, os.Environ()
	_, err := w.Start(spec)
	require.ErrorContains(t, err, "run "+text+": ")
	require.ErrorIs(t, err, syscall.ENOEXEC)
	assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH)
}

// TestFewSpares checks that only the units that were started last have a spare, and none when the spawner is closed.
func TestFewSpares(t *testing.T) {
	w := newWorkshop(t)
	first := w.spare()
	for n := range maxSpares {
		spec := w.spec("true")
		spec.Name = fmt.Sprint("unit", n)
		startIn(t, w.Spawner, spec).wait(t)
		eventually(t, "another waits", func() bool {
			return len(w.waiting()) == min(n+2, maxSpares) && (n < maxSpares-1 || w.waiting()[0] != first)
		})
	}
	all := append(w.waiting(), first)
	w.Close()
	for _, pid := range all {
		eventually(t, "it is gone", func() bool { return syscall.Kill(pid, 0) == syscall.ESRCH })
	}
	w.runs("true")
	assert.Empty(t, w.waiting())
}

// TestSpareEndsWithItsParent kills a process that has a spare.
func TestSpareEndsWithItsParent(t *testing.T) {
	dir := t.TempDir()
	parent := exec.Command(os.Args[0])
	parent.Env = append(os.Environ(), waitsIn+"="+dir)
	require.NoError(t, parent.Start())
	var pid int
	eventually(t, "it has a spare", func() bool {
		text, _ := os.ReadFile(filepath.Join(dir, "pid"))
		pid, _ = strconv.Atoi(string(text))
		return pid > 0
	})
	require.NoError(t, syscall.Kill(pid, 0))
	require.NoError(t, parent.Process.Kill())
	require.Error(t, parent.Wait())
	eventually(t, "the spare is gone", func() bool {
		m, exists := readMember(pid)
		return !exists || m.gone()
	})
}

// waitWithSpare starts a spare, writes its number, and does not return.
func waitWithSpare(dir string) {
	s := New(nil)
	s.startSpare(Spec{Name: "fares", Dir: dir, Cols: 80, Rows: 24})
	text := fmt.Sprint(s.spares.all[0].Cmd.Process.Pid)
	if err := os.WriteFile(filepath.Join(dir, "pid.new"), []byte(text), 0o600); err != nil {
		panic(err)
	}
	os.Rename(filepath.Join(dir, "pid.new"), filepath.Join(dir, "pid"))
	select {}
}
