// Package pages runs relays: units whose run is a server in this process, which serves a directory or passes requests
// on to a service, and refreshes browsers. To the rest of the session a relay's server is a process like any other.
// What a page has to wait for is decided by the engine; how it is served, by package relay. Start reading at
// Servers.Start.
package pages

import (
	"fmt"
	"net/netip"
	"sync"
	"sync/atomic"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/engine/explain"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/relay"
	"omnivigil/internal/session/outputs"
	"omnivigil/internal/session/run"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// Host is what relays need of their session. Its methods may be called from any goroutine.
type Host interface {
	Plan() *plan.Plan
	State() *engine.Snapshot
	Changed() (<-chan struct{}, func()) // a channel that has a value when the state has changed, until the function is called
	Time(m engine.Moment) time.Time
	Send(ev engine.Event) // to the engine; blocks until there is room
	// adds a fact to the account and the log
	Note(e logbook.Entry, text string)
	Clean(text string) string              // makes text safe to show
	Opened(unit string, at netip.AddrPort) // reports that a unit listens on an address
	// the address of a unit; zero: unknown
	Address(u *plan.Unit) netip.AddrPort
	Explain(unit string, run, most int) (lines []string, findings []api.Finding) // why a run failed
}

// Servers are the servers of a session's relays. Its methods may be called from any goroutine.
type Servers struct {
	Host
	of sync.Map // of *Server, by unit: those that run or have run
}

// Server is a running relay.
type Server struct {
	*relay.Server
	run.NoTerminal
	exited func(process.Exit)
	ended  chan struct{} // closed when it was told to end
	looks  atomic.Bool   // whether its directories exist is being checked
	lacks  bool          // something was missing at the last check
}

// ID implements Process: it has no number of its own.
func (p *Server) ID() int { return 0 }

// LookAhead implements run.Process.
func (*Server) LookAhead() {}

// Working implements Process.
func (p *Server) Working() bool { return false }

// AllRead implements Process.
func (p *Server) AllRead() bool { return true }

// SignalLeader implements Process: there is no process to signal.
func (p *Server) SignalLeader(string) error { return nil }

// Signal implements Process: whatever the signal, the server ends.
func (p *Server) Signal(string) error {
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

// Start starts a relay's server as the process of a run.
func (s *Servers) Start(live *run.Live, spec process.Spec) (run.Process, error) {
	u := live.Unit
	config := relay.Config{
		Project:  s.Plan().Name,
		Listen:   u.Relay.Listen,
		Target:   relay.Target{Unit: u.Relay.To, Root: u.Relay.Root},
		At:       map[string]relay.Target{},
		Needs:    u.Relay.Needs,
		Fallback: u.Relay.Fallback,
		Backend:  &backend{s},
		Note:     func(text string) { s.Note(live.Entry(logbook.Note), text) },
	}
	for _, at := range u.Relay.At {
		config.At[at.Prefix] = relay.Target{Unit: at.To, Root: at.Root}
	}
	server, err := relay.Start(config)
	if err != nil {
		return nil, err
	}
	p := &Server{Server: server, exited: spec.Exited, ended: make(chan struct{})}
	s.of.Store(u.Name, p)
	go s.Opened(u.Name, server.Address())
	return p, nil
}

// Of returns the server of a relay; nil: it is not running.
func (s *Servers) Of(unit string) *Server {
	if p, ok := s.of.Load(unit); ok {
		if p := p.(*Server); !p.over() {
			return p
		}
	}
	return nil
}

// All returns the running servers, by unit.
func (s *Servers) All() map[string]*Server {
	all := map[string]*Server{}
	s.of.Range(func(unit, _ any) bool {
		if server := s.Of(unit.(string)); server != nil {
			all[unit.(string)] = server
		}
		return true
	})
	return all
}

func (p *Server) over() bool {
	select {
	case <-p.ended:
		return true
	default:
		return false
	}
}

// LookAt checks whether everything that a relay serves exists, and reports to the engine what is missing, and once
// when nothing is missing any more. It does not block: it looks at files in another goroutine, one check at a time.
func (s *Servers) LookAt(live *run.Live) {
	p := s.Of(live.Unit.Name)
	if live.Unit.Relay == nil || live.IsOver() || p == nil || !p.looks.CompareAndSwap(false, true) {
		return
	}
	go func() {
		defer p.looks.Store(false)
		s.lookAt(p, live)
	}()
}

func (s *Servers) lookAt(p *Server, live *run.Live) {
	what, file := p.Missing()
	look := engine.Checked{Unit: live.Unit.Name, Run: live.Number}
	if what != "" {
		look.Problem = "its " + what + " " + s.Clean(outputs.RelativeTo(s.Plan().Root, file)) + " is missing"
	}
	if was := p.lacks; was || what != "" {
		p.lacks = what != ""
		s.Send(look)
	}
}

// backend is the state of the units that pages come from.
type backend struct{ s *Servers }

// Changed implements relay.Backend.
func (b *backend) Changed() (<-chan struct{}, func()) { return b.s.Changed() }

// Look implements relay.Backend.
func (b *backend) Look(unit string) relay.Look {
	snap, p := b.s.State(), b.s.Plan()
	pages, ok := snap.Pages(p, unit)
	if !ok {
		return relay.Look{Trouble: &relay.Trouble{Unit: unit, Text: "there is no unit " + unit}}
	}
	u := snap.Unit(unit)
	look := relay.Look{
		Ready: pages.Ready, Moving: pages.Moving, Generation: pages.Generation, Because: explain.Reasons(u.Run.Reasons),
		Address: b.s.Address(p.Unit(unit)),
	}
	if of := pages.Broken; of != nil {
		look.Trouble = &relay.Trouble{Unit: of.Name, Text: b.s.Clean(explain.Broken(of))}
	}
	if of := pages.Stale; of != nil {
		why := explain.Why(of)
		if root := snap.Unit(of.Stale.Root); root != nil && root.State.Broken() {
			why = explain.Broken(root) // which names the location, if one is known
		}
		look.Stale = b.s.Clean(of.Name + " is stale: " + why)
	}
	// The address is known only a moment after the unit is ready.
	if look.Ready && !look.Address.IsValid() && p.Unit(unit).Kind == plan.Service &&
		time.Since(b.s.Time(u.Run.ReadyAt)) < addressPatience {
		look.Moving = true
	}
	return look
}

// addressPatience is how long it may take until the address of a ready unit is known.
const addressPatience = 2 * time.Second

// Explain implements relay.Backend.
func (b *backend) Explain(unit string) (lines, places []string) {
	const most = 20
	u := b.s.State().Unit(unit)
	if u == nil {
		return nil, nil
	}
	text, found := b.s.Host.Explain(unit, u.Run.Number, most)
	for _, line := range text {
		lines = append(lines, escape.Strip(line))
	}
	for _, f := range found {
		places = append(places, f.From(b.s.Plan().Root).Text()+f.Message)
	}
	return lines, places
}

// Refresh tells the pages of a relay which files changed, and reports it.
func (s *Servers) Refresh(name string, paths []string, reload bool) {
	server := s.Of(name)
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
	go s.Note(logbook.Entry{Unit: name, Tone: logbook.Current}, text)
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
