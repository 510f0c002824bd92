package session

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"net"
	"net/http"
	"os"
	"os/exec"
	"regexp"
	"strconv"
	"sync"
	"time"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/engine"
	"omnivigil/internal/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/spawn"
)

// liveRun is a run that has a process.
type liveRun struct {
	unit   *plan.Unit
	number int
	began  time.Time

	mu      sync.Mutex
	process *spawn.Process // its own, or that of the step before it
	stopped bool           // it has been signalled

	announced chan struct{} // closed when the engine knows of the process
	over      chan struct{} // closed when the process is gone

	// Used by the goroutine that reads the process.
	scanner logbook.Scanner
	line    *regexp.Regexp // the ready line still waited for, or nil
}

func (s *Session) newRun(u *plan.Unit, number int) *liveRun {
	r := &liveRun{unit: u, number: number, began: time.Now(), announced: make(chan struct{}), over: make(chan struct{})}
	r.scanner.Hide = func(text string) string { return s.hidden.Load().String(text) }
	r.scanner.Hold = s.hidden.Load().Longest()
	return r
}

// spec is how a command of the run is spawned.
func (r *liveRun) spec(s *Session, c plan.Command) spawn.Spec {
	return spawn.Spec{
		Name: r.unit.Name, Argv: c.Argv(), Dir: r.unit.Dir, Env: append(environment(r.unit, r.number), s.marks...), Cols: 120, Rows: 40,
		Output: func(p []byte) { r.output(s, p) },
	}
}

// have notes the process that signals go to. One that was to be stopped before it
// came is stopped at once.
func (r *liveRun) have(p *spawn.Process) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.process = p
	if r.stopped {
		p.Signal(r.unit.Stop.Signal)
	}
}

// spawned is the run's own process, nil before it has one.
func (r *liveRun) spawned() *spawn.Process {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.process
}

func (r *liveRun) isStopped() bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	return r.stopped
}

func (r *liveRun) entry(s logbook.Stream) logbook.Entry {
	return logbook.Entry{Unit: r.unit.Name, Run: r.number, Stream: s}
}

func (r *liveRun) output(s *Session, p []byte) {
	lines := r.scanner.Scan(p)
	s.book.Append(r.entry(logbook.Output), lines...)
	r.lookForReady(s, lines)
}

func (r *liveRun) lookForReady(s *Session, lines []string) {
	if r.line == nil {
		return
	}
	for _, l := range lines {
		if r.line.MatchString(ansi.Strip(l)) {
			r.line = nil
			s.send(engine.BecameReady{Unit: r.unit.Name, Run: r.number})
			return
		}
	}
}

func (r *liveRun) exited(s *Session, x spawn.Exit) {
	close(r.over)
	rest := r.scanner.Rest()
	s.book.Append(r.entry(logbook.Output), rest...)
	r.lookForReady(s, rest)
	<-r.announced
	s.send(engine.Exited{Unit: r.unit.Name, Run: r.number, Exit: engine.Exit(x)})
}

// stop sends the signal that is to end the run.
func (r *liveRun) stop(s *Session, name string) {
	r.mu.Lock()
	r.stopped = true
	r.mu.Unlock()
	if r.unit.Stop.Run != nil && name == r.unit.Stop.Signal {
		go r.runStop(s)
		return
	}
	r.signal(s, name)
}

// runStop runs the command that ends the unit, in place of a signal.
func (r *liveRun) runStop(s *Session) {
	ctx, stop := context.WithTimeout(context.Background(), r.unit.Stop.Grace)
	defer stop()
	if err := tryCommand(ctx, *r.unit.Stop.Run, r.unit.Dir, environment(r.unit, r.number)); err != nil {
		s.book.Append(r.entry(logbook.Note), s.hidden.Load().String(fmt.Sprintf("could not be stopped by %q: %v", r.unit.Stop.Run, err)))
	}
}

func (r *liveRun) signal(s *Session, name string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.process == nil {
		return
	}
	if err := r.process.Signal(name); err != nil {
		s.book.Append(r.entry(logbook.Note), "could not be signalled: "+err.Error())
	}
}

// Probing is quick at first, since most services are ready in no time, and
// polite later.
const (
	firstProbe = 10 * time.Millisecond
	lastProbe  = 500 * time.Millisecond
	probeLimit = 2 * time.Second // for one try
)

// probe tries until the service answers or the run is over.
func (r *liveRun) probe(s *Session) {
	try := r.prober()
	if try == nil {
		return
	}
	saw := ""
	for pause := firstProbe; ; pause = min(pause*3/2, lastProbe) {
		ctx, stop := context.WithTimeout(context.Background(), probeLimit)
		err := try(ctx)
		stop()
		select {
		case <-r.over:
			return
		default:
		}
		if err == nil {
			s.send(engine.BecameReady{Unit: r.unit.Name, Run: r.number})
			return
		}
		if now := err.Error(); now != saw {
			saw = now
			s.send(engine.Probed{Unit: r.unit.Name, Run: r.number, Saw: saw})
		}
		select {
		case <-time.After(pause):
		case <-r.over:
			return
		}
	}
}

// prober returns a function that tries once, or nil where nothing is probed.
func (r *liveRun) prober() func(context.Context) error {
	rd := r.unit.Ready
	switch {
	case rd.Port != 0:
		return func(ctx context.Context) error { return tryPort(ctx, rd.Port) }
	case rd.HTTP != "":
		return func(ctx context.Context) error { return tryHTTP(ctx, rd.HTTP) }
	case rd.File != "":
		return func(context.Context) error { return tryFile(rd.File, r.began) }
	case rd.Run != nil:
		return func(ctx context.Context) error {
			return tryCommand(ctx, *rd.Run, r.unit.Dir, environment(r.unit, r.number))
		}
	}
	return nil
}

// tryFile looks for a file that is newer than the run's beginning.
func tryFile(file string, began time.Time) error {
	info, err := os.Stat(file)
	switch {
	case err != nil:
		return errors.New("it is not there")
	case !info.ModTime().After(began):
		return errors.New("it is older than the start")
	}
	return nil
}

func tryCommand(ctx context.Context, c plan.Command, dir string, env []string) error {
	argv := c.Argv()
	cmd := exec.CommandContext(ctx, argv[0], argv[1:]...)
	cmd.Dir, cmd.Env = dir, env
	cmd.WaitDelay = time.Second // what it leaves behind must not keep its output open
	out, err := cmd.CombinedOutput()
	if err == nil {
		return nil
	}
	if last := bytes.TrimSpace(out); len(last) > 0 {
		lines := bytes.Split(last, []byte("\n"))
		return fmt.Errorf("%w: %s", err, ansi.Strip(string(lines[len(lines)-1])))
	}
	return err
}

func tryPort(ctx context.Context, port int) error {
	conn, err := (&net.Dialer{}).DialContext(ctx, "tcp", net.JoinHostPort("localhost", strconv.Itoa(port)))
	if err != nil {
		return plainly(err)
	}
	return conn.Close()
}

// direct asks a service itself: no proxy, no redirects, no kept connections that
// would survive a restart.
var direct = &http.Client{
	Transport:     &http.Transport{DisableKeepAlives: true},
	CheckRedirect: func(*http.Request, []*http.Request) error { return http.ErrUseLastResponse },
}

func tryHTTP(ctx context.Context, url string) error {
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, url, nil)
	if err != nil {
		return err
	}
	resp, err := direct.Do(req)
	if err != nil {
		return plainly(err)
	}
	resp.Body.Close()
	if resp.StatusCode < 200 || resp.StatusCode > 399 {
		return fmt.Errorf("%s", resp.Status)
	}
	return nil
}
