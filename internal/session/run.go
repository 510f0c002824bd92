package session

import (
	"context"
	"fmt"
	"net"
	"net/http"
	"regexp"
	"strconv"
	"time"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/engine"
	"omnivigil/internal/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/spawn"
)

// liveRun is a run that has a process.
type liveRun struct {
	unit    *plan.Unit
	number  int
	process *spawn.Process

	announced chan struct{} // closed when the engine knows of the process
	over      chan struct{} // closed when the process is gone

	// Used by the goroutine that reads the process.
	scanner logbook.Scanner
	line    *regexp.Regexp // the ready line still waited for, or nil
}

func (r *liveRun) prepare() {
	if r.unit.Ready.Line != "" {
		r.line = regexp.MustCompile(r.unit.Ready.Line) // compiled once by plan.Read
	}
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

func (r *liveRun) signal(s *Session, name string) {
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
	try := prober(r.unit.Ready)
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
func prober(r plan.Ready) func(context.Context) error {
	switch {
	case r.Port != 0:
		return func(ctx context.Context) error { return tryPort(ctx, r.Port) }
	case r.HTTP != "":
		return func(ctx context.Context) error { return tryHTTP(ctx, r.HTTP) }
	}
	return nil
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
