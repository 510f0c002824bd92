package session

import (
	"context"
	"fmt"
	"net/netip"
	"sync/atomic"
	"time"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/relay"
	"omnivigil/internal/session/outputs"
	"omnivigil/internal/session/run"
	"omnivigil/internal/text/format"
)

// A relay is a unit whose run is a server in this process. To the rest of the session it is a Process
// like any other.

// pageServer is a relay that runs.
type pageServer struct {
	*relay.Server
	run.NoTerminal
	exited func(process.Exit)
	ended  chan struct{} // closed when it was told to end
	looks  atomic.Bool   // whether what it serves is there
	lacks  bool          // something was missing at the last look
}

// ID implements Process: it has no number of its own.
func (p *pageServer) ID() int { return 0 }

// Working implements Process.
func (p *pageServer) Working() bool { return false }

// AllRead implements Process.
func (p *pageServer) AllRead() bool { return true }

// SignalLeader implements Process: there is no process to signal.
func (p *pageServer) SignalLeader(string) error { return nil }

// Signal implements Process: whatever the signal, the server ends.
func (p *pageServer) Signal(string) error {
	select {
	case <-p.ended:
	default:
		close(p.ended)
		go func() {
			p.Close()
			p.exited(process.Exit{})
		}()
	}
	return nil
}

// begin starts a run's process, or a relay's server.
func (s *Session) begin(live *run.Live, spec process.Spec) (run.Process, error) {
	if live.Unit.Relay == nil {
		return s.spawner.Start(spec)
	}
	u := live.Unit
	config := relay.Config{
		Project:  s.Plan().Name,
		Listen:   u.Relay.Listen,
		Target:   relay.Target{Unit: u.Relay.To, Root: u.Relay.Root},
		At:       map[string]relay.Target{},
		Needs:    u.Relay.Needs,
		Fallback: u.Relay.Fallback,
		Backend:  &pageBackend{s},
		Note:     func(text string) { s.note(live.Entry(logbook.Note), text) },
	}
	for _, at := range u.Relay.At {
		config.At[at.Prefix] = relay.Target{Unit: at.To, Root: at.Root}
	}
	server, err := relay.Start(config)
	if err != nil {
		return nil, err
	}
	p := &pageServer{Server: server, exited: spec.Exited, ended: make(chan struct{})}
	s.relays.Store(u.Name, p)
	go s.opened(u.Name, server.Address())
	return p, nil
}

// pagesOf returns the server of a relay, nil where it does not run.
func (s *Session) pagesOf(unit string) *pageServer {
	if p, ok := s.relays.Load(unit); ok {
		if p := p.(*pageServer); !p.over() {
			return p
		}
	}
	return nil
}

func (p *pageServer) over() bool {
	select {
	case <-p.ended:
		return true
	default:
		return false
	}
}

// lookAtPages finds out whether all is there that relays serve. It is for the loop, and looks at files in other
// goroutines.
func (l *loop) lookAtPages() {
	s := l.Session
	for name, live := range l.live {
		p := l.pagesOf(name)
		if live.Unit.Relay == nil || live.IsOver() || p == nil || !p.looks.CompareAndSwap(false, true) {
			continue
		}
		go func() {
			defer p.looks.Store(false)
			s.lookAtPagesOf(p, live)
		}()
	}
}

// lookAtPagesOf tells the engine what of a relay is missing, and once when nothing is any more.
func (s *Session) lookAtPagesOf(p *pageServer, live *run.Live) {
	what, file := p.Missing()
	look := engine.Checked{Unit: live.Unit.Name, Run: live.Number}
	if what != "" {
		look.Problem = "its " + what + " " + s.clean(outputs.RelativeTo(s.root, file)) + " is missing"
	}
	if was := p.lacks; was || what != "" {
		p.lacks = what != ""
		s.send(look)
	}
}

// pageBackend says how units stand that pages come from.
type pageBackend struct{ s *Session }

// Changed implements relay.Backend.
func (b *pageBackend) Changed() (<-chan struct{}, func()) { return b.s.Changed() }

// Look implements relay.Backend.
func (b *pageBackend) Look(unit string) relay.Look {
	snap, p := b.s.state(), b.s.Plan()
	pages, ok := snap.Pages(p, unit)
	if !ok {
		return relay.Look{Trouble: &relay.Trouble{Unit: unit, Text: "there is no unit " + unit}}
	}
	u := snap.Unit(unit)
	look := relay.Look{
		Ready: pages.Ready, Moving: pages.Moving, Generation: pages.Generation, Because: explain.Reasons(u.Run.Reasons),
		Address: b.s.addressOf(p.Unit(unit)),
	}
	if of := pages.Broken; of != nil {
		look.Trouble = &relay.Trouble{Unit: of.Name, Text: b.s.clean(explain.Broken(of))}
	}
	if of := pages.Stale; of != nil {
		look.Stale = b.s.clean(of.Name + " is stale: " + explain.Why(of))
	}
	// Where it listens is known only a moment after it is ready.
	if look.Ready && !look.Address.IsValid() && p.Unit(unit).Kind == plan.Service &&
		time.Since(b.s.time(u.Run.ReadyAt)) < addressPatience {
		look.Moving = true
	}
	return look
}

// addressPatience is how long it may take until it is known where a unit listens that is ready.
const addressPatience = 2 * time.Second

// addressOf is where a unit answers: as the settings say, or as it was seen to listen.
func (s *Session) addressOf(u *plan.Unit) netip.AddrPort {
	if u == nil {
		return netip.AddrPort{}
	}
	if ports := u.Ports(); len(ports) > 0 {
		return ports[0]
	}
	if s.meter != nil {
		if seen := s.meter.Uses()[u.Name].Endpoints; len(seen) > 0 {
			at := seen[0]
			if at.Addr().IsUnspecified() {
				at = netip.AddrPortFrom(netip.AddrFrom4([4]byte{127, 0, 0, 1}), at.Port())
			}
			return at
		}
	}
	return netip.AddrPort{}
}

// Explain implements relay.Backend.
func (b *pageBackend) Explain(unit string) (lines, places []string) {
	const most = 20
	u := b.s.state().Unit(unit)
	if u == nil {
		return nil, nil
	}
	page, err := b.s.Lines(context.Background(), api.LineQuery{Unit: unit, Run: u.Run.Number, Why: true, Count: most})
	if err == nil {
		for _, l := range page.Lines {
			lines = append(lines, ansi.Strip(l.Text))
		}
	}
	found, err := b.s.Findings(context.Background(), api.ResultQuery{Units: []string{unit}, Only: "error", Count: most})
	if err == nil {
		for _, f := range found.Findings {
			places = append(places, f.From(b.s.root).Text()+f.Message)
		}
	}
	return lines, places
}

// refresh tells the pages of a relay of files, and says so.
func (s *Session) refresh(name string, paths []string, reload bool) {
	server := s.pagesOf(name)
	if server == nil {
		return
	}
	files, verb, n := format.List(paths), "swapped in", 0 // there may be thousands
	if reload || !relay.Swappable(paths) {
		verb, n = "reloaded", server.Reload(files+" changed")
	} else {
		n = server.Swap(paths)
	}
	text := fmt.Sprintf("%s: %s %s", files, verb, pagesText(n))
	go s.note(logbook.Entry{Unit: name, Tone: logbook.Current}, text)
}

func pagesText(n int) string {
	switch n {
	case 0:
		return "no page, for none is open"
	case 1:
		return "1 page"
	}
	return fmt.Sprintf("%d pages", n)
}
