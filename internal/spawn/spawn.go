// Package spawn runs commands, each on a pseudo-terminal and in a process group
// of its own, and ends them to the last grandchild of that group.
//
// It does not know why a process runs or what its output means. Processes that
// leave their group on purpose (by starting a session of their own) are not
// followed.
package spawn

import (
	"errors"
	"fmt"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"
)

// Spec is what to run.
type Spec struct {
	Argv []string // the program, looked up on the PATH, and its arguments
	Dir  string   // absolute working folder
	Env  []string // "NAME=value", complete: nothing is inherited beside it
	Cols int      // the terminal's size in cells
	Rows int
	// Output is called with the bytes the process writes, in order, from one
	// goroutine. The slice is only valid during the call.
	Output func([]byte)
	// Exited is called once, after the last Output, when the whole group is gone.
	Exited func(Exit)
}

// Exit is how a process ended.
type Exit struct {
	Code   int
	Signal string // such as "SIGKILL"; empty when it ended by itself
	Core   bool
}

// leftoverGrace is how long members of a group may outlive their leader after
// it ended by itself, before they are killed.
const leftoverGrace = 2 * time.Second

// drainPatience bounds the wait for output after a group is gone: a process
// that left the group may hold its terminal open for ever.
const drainPatience = 300 * time.Millisecond

// Process is a running command.
type Process struct {
	PID   int
	spec  Spec
	cmd   *exec.Cmd
	tty   *os.File
	group group

	mu    sync.Mutex
	asked bool // somebody has signalled the group
}

// Start runs the command. An error says what was tried and why it failed; no
// callback is called then.
func Start(spec Spec) (*Process, error) {
	if info, err := os.Stat(spec.Dir); err != nil || !info.IsDir() {
		return nil, fmt.Errorf("its folder %s is not there", spec.Dir)
	}
	path, err := lookPath(spec)
	if err != nil {
		return nil, err
	}
	cmd := &exec.Cmd{Path: path, Args: spec.Argv, Dir: spec.Dir, Env: spec.Env}
	tty, err := startOnTerminal(cmd, spec.Cols, spec.Rows)
	if err != nil {
		return nil, fmt.Errorf("run %s: %w", spec.Argv[0], err)
	}
	p := &Process{PID: cmd.Process.Pid, spec: spec, cmd: cmd, tty: tty, group: group(cmd.Process.Pid)}
	go p.follow()
	return p, nil
}

// lookPath finds the program as the unit's own environment has it.
func lookPath(spec Spec) (string, error) {
	name := spec.Argv[0]
	if strings.ContainsRune(name, filepath.Separator) {
		if !filepath.IsAbs(name) {
			name = filepath.Join(spec.Dir, name)
		}
		if _, err := os.Stat(name); err != nil {
			return "", fmt.Errorf("there is no program %s", name)
		}
		return name, nil
	}
	for _, dir := range filepath.SplitList(lookup(spec.Env, "PATH")) {
		if dir == "" {
			dir = spec.Dir
		}
		path := filepath.Join(dir, name)
		if found, err := exec.LookPath(path); err == nil {
			return found, nil
		}
	}
	return "", fmt.Errorf("command not found: %q is on no folder of its PATH", name)
}

func lookup(env []string, name string) string {
	for i := len(env) - 1; i >= 0; i-- {
		if value, ok := strings.CutPrefix(env[i], name+"="); ok {
			return value
		}
	}
	return ""
}

// Signal sends a signal, named without SIG, to the whole group. Sending to a
// group that is gone is no error.
func (p *Process) Signal(name string) error {
	p.mu.Lock()
	p.asked = true
	p.mu.Unlock()
	return p.group.signal(name)
}

// Resize tells the process how large its terminal is.
func (p *Process) Resize(cols, rows int) error { return resize(p.tty, cols, rows) }

// follow reads the process to its end.
func (p *Process) follow() {
	read := make(chan struct{})
	go func() {
		defer close(read)
		p.read()
	}()
	err := p.cmd.Wait()
	p.endGroup()
	select {
	case <-read:
	case <-time.After(drainPatience):
		p.tty.SetReadDeadline(time.Now())
		<-read
	}
	p.tty.Close()
	p.spec.Exited(exitOf(p.cmd, err))
}

func (p *Process) read() {
	buf := make([]byte, 64<<10)
	for {
		n, err := p.tty.Read(buf)
		if n > 0 {
			p.spec.Output(buf[:n])
		}
		if err != nil {
			// A terminal whose last process has closed it reads as an error, not
			// as the end of a file.
			return
		}
	}
}

// endGroup waits until no member of the group is left. When the leader ended by
// itself, those it left behind are ended too: they are part of its run.
func (p *Process) endGroup() {
	p.mu.Lock()
	asked := p.asked
	p.mu.Unlock()
	if !p.group.alive() {
		return
	}
	deadline := time.Now().Add(leftoverGrace)
	if !asked {
		p.group.signal("TERM")
	}
	for pause := time.Millisecond; p.group.alive(); pause = min(pause*2, 50*time.Millisecond) {
		time.Sleep(pause)
		// Whoever asked for the end also decides when it is enough.
		if !asked && time.Now().After(deadline) {
			p.group.signal("KILL")
		}
	}
}

func exitOf(cmd *exec.Cmd, err error) Exit {
	var exit *exec.ExitError
	if err != nil && !errors.As(err, &exit) && !errors.Is(err, io.EOF) {
		return Exit{Code: -1}
	}
	return exitFromState(cmd.ProcessState)
}
