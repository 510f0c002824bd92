// Package process runs commands, each on a pseudo-terminal and in its own process group, and ends them with all their
// descendants.
//
// It does not know why a process runs or what its output means. On Linux the processes of a run are followed wherever
// they go, also into their own sessions; on other systems only within the run's process group. Start reading at
// Spawner.Start.
package process

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"omnivigil/internal/pace"
	"omnivigil/internal/process/observe"
	"omnivigil/internal/text/suggest"
)

// Spec is what to run.
type Spec struct {
	Name string   // for the caller: whose process it is
	Argv []string // the program, looked up in PATH, and its arguments
	Dir  string   // the working directory, absolute
	Env  []string // "NAME=value", complete: nothing else is inherited
	Cols int      // the terminal's size in cells
	Rows int
	// Terminal is what it reads from and writes to.
	Terminal Terminal
	// Again: a process with the same name will probably be started again soon, so the next one is prepared.
	Again bool
	// Output is called with the bytes that the process writes, in order, from one goroutine. The slice is valid only
	// during the call.
	Output func([]byte)
	// Observe records what the process and its descendants do; nil: it is not observed. Starting takes some
	// milliseconds longer then.
	Observe *observe.Log
	// Exited is called once, after the last Output, when all of its processes are gone.
	Exited func(Exit)
}

// Terminal is what a process reads from and writes to. In any case the process gets its own session, so that it
// cannot reach Omnivigil's terminal.
type Terminal uint8

const (
	OwnTerminal   Terminal = iota // a pseudo-terminal, as the controlling terminal
	ShownTerminal                 // a pseudo-terminal that is not the controlling terminal, so that it cannot prompt on it directly
	NoTerminal                    // nothing to read, and a pipe to write to
)

// Exit is how a process ended.
type Exit struct {
	Code   int
	Signal string // such as "SIGKILL"; empty: it exited
	Core   bool
}

// leftoverGrace is how long descendants may outlive a process that exited without a request, before they are killed.
const leftoverGrace = 2 * time.Second

// drainPatience limits the wait for output after all processes are gone: a process that could not be followed may
// hold the terminal open forever.
const drainPatience = 300 * time.Millisecond

// markName is the environment variable that identifies a run's processes.
const markName = "OMNIVIGIL_PROCESS"

// Spawner starts processes and follows their descendants. Its methods may be called from any goroutine.
type Spawner struct {
	mu        sync.Mutex
	serial    int
	tracker   tracker
	spares    spares
	terminals terminals
	rush      rush
	yield     func()     // it is called before output is read
	seen      []listener // at the last call of Listening
}

// New returns a spawner. Orphans are followed only if the program has called BecomeSubreaper. Yield is called before
// output is read: it may wait for a moment, and the processes that write wait with it; nil: it never does.
func New(yield func()) *Spawner {
	if yield == nil {
		yield = func() {}
	}
	return &Spawner{tracker: newTracker(), terminals: newTerminals(), yield: yield}
}

// Process is a running command with all of its descendants.
type Process struct {
	PID     int
	spawner *Spawner
	spec    Spec
	mark    string
	cmd     *exec.Cmd
	tty     *os.File
	asked   atomic.Bool  // it was told to end
	ended   atomic.Bool  // its first process has been reaped
	lastIO  []byte       // its file activity until then, as the system reports it
	shown   atomic.Int64 // bytes written to its terminal
	reading reading
	told    told
	strays  bool      // some of its processes were found outside its tree; owned by the tracker
	looked  time.Time // when the tracker looked ahead; owned by it
}

// Start runs the command. An error tells what was tried and why it failed; no callback is called then. It wraps
// observe.ErrUnavailable if the process cannot be observed.
func (s *Spawner) Start(spec Spec) (*Process, error) {
	dir, err := os.Stat(spec.Dir)
	if err != nil || !dir.IsDir() {
		return nil, fmt.Errorf("its directory %s does not exist", spec.Dir)
	}
	path, err := lookPath(spec)
	if err != nil {
		return nil, err
	}
	p := &Process{spawner: s, spec: spec}
	launched, err := s.launchSpare(p, path, dir)
	if !launched {
		err = s.launchNew(p, path)
	}
	if err != nil {
		return nil, err
	}
	s.prepareSpare(spec)
	go p.follow()
	return p, nil
}

// launchNew starts the command in a new process.
func (s *Spawner) launchNew(p *Process, path string) (err error) {
	spec := p.spec
	p.cmd = &exec.Cmd{Path: path, Args: spec.Argv, Dir: spec.Dir}
	var observer *observe.Observer
	if spec.Observe != nil {
		if observer, err = observe.Prepare(p.cmd); err != nil {
			return err
		}
	}
	if err := s.launch(p); err != nil {
		if observer != nil {
			observer.Close()
		}
		return err
	}
	if observer != nil {
		if err := observer.Attach(spec.Observe); err != nil {
			p.abandon()
			if errors.Is(err, observe.ErrUnavailable) {
				return err
			}
			return fmt.Errorf("run %s: %w", spec.Argv[0], err)
		}
	}
	return nil
}

// launch starts the process.
func (s *Spawner) launch(p *Process) (err error) {
	spec := p.spec
	// The lock prevents the tracker from finding the process before it is known.
	s.mu.Lock()
	defer s.mu.Unlock()
	p.cmd.Env = s.markedEnv(p)
	if spec.Terminal == NoTerminal {
		p.tty, err = startOnPipe(p.cmd)
	} else {
		p.tty, err = s.terminals.start(p.cmd, spec, p.cmd.Start)
	}
	if err != nil {
		return fmt.Errorf("run %s: %w", spec.Argv[0], err)
	}
	p.PID = p.cmd.Process.Pid
	s.tracker.add(p)
	return nil
}

// markedEnv gives the process a mark, and returns its environment with that.
func (s *Spawner) markedEnv(p *Process) []string {
	s.serial++
	p.mark = fmt.Sprintf("%d-%d", os.Getpid(), s.serial)
	return append(slices.Clip(p.spec.Env), markName+"="+p.mark)
}

// abandon ends a process that could not be observed or executed. Nothing of it is passed to the callbacks.
func (p *Process) abandon() {
	p.signal("KILL")
	p.cmd.Wait()
	p.tty.Close()
	p.spawner.mu.Lock()
	defer p.spawner.mu.Unlock()
	p.spawner.tracker.drop(p)
}

// lookPath finds the program in the PATH of the unit's own environment.
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
	if near := nearestProgram(name, lookup(spec.Env, "PATH")); near != "" {
		return "", fmt.Errorf("command not found: %q; did you mean %q?", name, near)
	}
	return "", fmt.Errorf("command not found: %q is not in PATH", name)
}

// nearestProgram returns the program in PATH with the most similar name, or "" if none is similar.
func nearestProgram(name, path string) string {
	var names []string
	for _, dir := range filepath.SplitList(path) {
		entries, _ := os.ReadDir(dir)
		for _, entry := range entries {
			names = append(names, entry.Name())
		}
	}
	return suggest.Name(name, names)
}

func lookup(env []string, name string) string {
	for i := len(env) - 1; i >= 0; i-- {
		if value, ok := strings.CutPrefix(env[i], name+"="); ok {
			return value
		}
	}
	return ""
}

// Signal sends a signal that should end it, named without SIG, to the process and all descendants. Processes that are
// gone are no error. It does not block.
func (p *Process) Signal(name string) error {
	p.asked.Store(true)
	return p.signal(name)
}

// SignalLeader sends a signal that should not end it, named without SIG, only to the process itself. A process that
// is gone is no error.
func (p *Process) SignalLeader(name string) error {
	sig, err := signalNumber(name)
	if err != nil {
		return err
	}
	if err := p.cmd.Process.Signal(sig); err != nil && !errors.Is(err, os.ErrProcessDone) && !p.ended.Load() {
		return fmt.Errorf("send %s to process %d: %w", name, p.PID, err)
	}
	return nil
}

func (p *Process) signal(name string) error {
	sig, err := signalNumber(name)
	if err != nil {
		return err
	}
	p.spawner.mu.Lock()
	defer p.spawner.mu.Unlock()
	if err := p.spawner.tracker.signal(p, sig); err != nil {
		return fmt.Errorf("send %s to process %d: %w", name, p.PID, err)
	}
	return nil
}

// LookAhead prepares a signal that will probably follow within a millisecond or two, so that it is sent sooner. It
// blocks for a fraction of a millisecond.
func (p *Process) LookAhead() {
	p.spawner.mu.Lock()
	defer p.spawner.mu.Unlock()
	p.spawner.tracker.lookAhead(p)
}

// remind sends the last signal to processes that have not got it because they were just being started.
func (p *Process) remind() {
	p.spawner.mu.Lock()
	defer p.spawner.mu.Unlock()
	p.spawner.tracker.remind(p)
}

func (p *Process) alive() bool {
	p.spawner.mu.Lock()
	defer p.spawner.mu.Unlock()
	return p.spawner.tracker.alive(p)
}

// ID is the number of the process.
func (p *Process) ID() int { return p.PID }

// Name is that of the Spec.
func (p *Process) Name() string { return p.spec.Name }

// follow reads the process to its end.
func (p *Process) follow() {
	read := make(chan struct{})
	go func() {
		defer close(read)
		p.read()
	}()
	p.awaitEnd()
	exit := p.reap()
	p.ended.Store(true)
	p.endFamily()
	select {
	case <-read:
	case <-time.After(drainPatience):
		p.tty.SetReadDeadline(time.Now())
		<-read
	}
	go p.tty.Close() // does not have to be waited for
	p.spawner.mu.Lock()
	p.spawner.tracker.drop(p)
	p.spawner.mu.Unlock()
	p.spec.Exited(exit)
	p.cmd.Process.Release()
}

// AllRead reports whether everything that the process had written to its terminal before the call has been passed to
// Output, as far as the system can tell. It does not block.
func (p *Process) AllRead() bool { return p.reading.isDone(p.tty) }

// readBuffers are for reuse: a project that is saved often starts many processes.
var readBuffers = sync.Pool{New: func() any { return new([64 << 10]byte) }}

func (p *Process) read() {
	buffer := readBuffers.Get().(*[64 << 10]byte)
	defer readBuffers.Put(buffer)
	buf := buffer[:]
	var handled time.Time
	var window int64 // see rush.wrote
	// A terminal holds what a process writes line by line in a pause; a screen shows it 30 times a second.
	pace := pace.Pace{Slow: 5 * time.Millisecond, Pause: 4 * time.Millisecond, Few: 1024, Burst: 64}
	for {
		p.spawner.yield()
		began := time.Now()
		n, err := p.reading.read(p.tty, buf)
		now := time.Now()
		if err == nil && now.Sub(handled) < withoutPause && p.spawner.rush.wrote(now, &window) {
			time.Sleep(gatherFor)
			n += p.reading.more(p.tty, buf[n:])
		}
		if n > 0 {
			// A terminal turns each newline into two bytes (see termios(3), ONLCR).
			p.shown.Add(int64(n - bytes.Count(buf[:n], []byte("\n"))))
			p.spec.Output(buf[:n])
			handled = time.Now()
		}
		if pause := pace.After(now.Sub(began), n); pause > 0 && !p.asked.Load() && err == nil {
			time.Sleep(pause)
		}
		if err != nil {
			// Reading a terminal whose last process has closed it is an error, not the end of a file.
			return
		}
	}
}

// endFamily waits until no descendant of the process is left. When the process exited without a request, those it
// left are ended, too: they are part of its run.
func (p *Process) endFamily() {
	if !p.alive() {
		return
	}
	deadline := time.Now().Add(leftoverGrace)
	asked := p.asked.Load()
	if !asked {
		p.signal("TERM")
	}
	for wait := time.Millisecond; p.alive(); wait = min(wait*2, 50*time.Millisecond) {
		time.Sleep(wait)
		p.remind()
		// The caller decides when it is enough.
		if !asked && time.Now().After(deadline) {
			p.signal("KILL")
		}
	}
}
