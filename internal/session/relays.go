package session

import (
	"context"
	"fmt"
	"net/netip"
	"slices"
	"sync/atomic"
	"time"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/process"
	"omnivigil/internal/relay"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/text/format"
	"omnivigil/internal/watch"
)

// A relay is a unit whose run is a server in this process. To the rest of the session it is a Process
// like any other.

// pageServer is a relay that runs.
type pageServer struct {
	*relay.Server
	noTerminal
	exited func(process.Exit)
	ended  chan struct{} // closed when it was told to end
	looks  atomic.Bool   // whether what it serves is there
	misses int           // how often in a row something was not
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
func (s *Session) begin(run *liveRun, spec process.Spec) (Process, error) {
	if run.unit.Relay == nil {
		return s.spawner.Start(spec)
	}
	u := run.unit
	config := relay.Config{
		Project:  s.Plan().Name,
		Listen:   u.Relay.Listen,
		Target:   relay.Target{Unit: u.Relay.To, Root: u.Relay.Root},
		At:       map[string]relay.Target{},
		Needs:    u.Relay.Needs,
		Fallback: u.Relay.Fallback,
		Backend:  &pageBackend{s},
		Note:     func(text string) { s.note(run.entry(logbook.Note), text) },
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
	for name, run := range l.live {
		p := l.pagesOf(name)
		if run.unit.Relay == nil || run.isOver() || p == nil || !p.looks.CompareAndSwap(false, true) {
			continue
		}
		beingMade := l.isBeingMade(run.unit)
		go func() {
			defer p.looks.Store(false)
			s.lookAtPagesOf(p, run, beingMade)
		}()
	}
}

// lookAtPagesOf tells the engine when something has been missing for two looks in a row and no unit is at work that
// may make it, and when it is there again.
func (s *Session) lookAtPagesOf(p *pageServer, run *liveRun, beingMade bool) {
	const looks = 2
	what, file := p.Missing()
	look := engine.Checked{Unit: run.unit.Name, Run: run.number}
	u := s.state().Unit(look.Unit)
	switch {
	case u == nil || u.Run.Number != run.number:
	case what == "":
		if p.misses = 0; u.State == engine.Failed {
			s.send(look)
		}
	case beingMade:
		p.misses = 0
	default:
		if p.misses++; p.misses >= looks && u.State == engine.Ready {
			look.Problem = "its " + what + " " + s.clean(relativeTo(s.root, file)) + " is missing"
			s.send(look)
		}
	}
}

// isBeingMade reports whether a unit is on its way that may make what a relay serves.
func (l *loop) isBeingMade(relay *plan.Unit) bool {
	var behind []string
	for _, name := range relay.Relay.Backends() {
		behind = append(behind, chainOf(l.plan, name)...)
	}
	return slices.ContainsFunc(l.plan.Units, func(u *plan.Unit) bool {
		state := l.state().Unit(u.Name)
		return state != nil && state.Moving && (len(u.Outputs) > 0 || slices.Contains(behind, u.Name))
	})
}

// pageBackend says how units stand that pages come from.
type pageBackend struct{ s *Session }

// Changed implements relay.Backend.
func (b *pageBackend) Changed() (<-chan struct{}, func()) { return b.s.Changed() }

// Look implements relay.Backend.
func (b *pageBackend) Look(unit string) relay.Look {
	snap, p := b.s.state(), b.s.Plan()
	u := snap.Unit(unit)
	if u == nil {
		return relay.Look{Trouble: &relay.Trouble{Unit: unit, Text: "there is no unit " + unit}}
	}
	look := relay.Look{Address: b.s.addressOf(p.Unit(unit)), Because: u.Run.Because}
	look.Ready = u.State == engine.Ready || u.State == engine.Done || u.State == engine.Running && u.Run.Number > 1
	for _, name := range chainOf(p, unit) {
		of := snap.Unit(name)
		if of == nil {
			continue
		}
		look.Moving = look.Moving || of.Moving || of.Freshness == engine.Updating
		switch {
		case of.State.Broken() && look.Trouble == nil:
			look.Trouble = &relay.Trouble{Unit: name, Text: b.s.clean(brokenText(of))}
		case of.Freshness == engine.Stale && look.Stale == "":
			look.Stale = b.s.clean(name + " is stale: " + of.Why)
		}
		look.Generation += fmt.Sprintf("%s %d.%d ", name, of.Run.Number, of.Pass.Number)
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

func brokenText(u *engine.Unit) string {
	text := u.Name + " " + u.State.String()
	switch {
	case u.Run.Problem != "":
		text += ": " + u.Run.Problem
	case !u.Run.EndedAt.IsZero():
		text += " (" + u.Run.Exit.String() + ")"
	}
	return text
}

// chainOf are a unit and all that it needs and follows, but for suites: what they find does not change
// a page.
func chainOf(p *plan.Plan, unit string) []string {
	var names []string
	open := []string{unit}
	for len(open) > 0 {
		name := open[0]
		open = open[1:]
		u := p.Unit(name)
		if u == nil || u.Kind == plan.Suite || slices.Contains(names, name) {
			continue
		}
		names = append(names, name)
		open = append(open, slices.Concat(u.Needs, u.Follows)...)
	}
	slices.Sort(names)
	return names
}

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

// forPages tells relays of files that are for pages alone, and returns the other hits and the units that
// heard of nothing else.
func (l *loop) forPages(hits []watch.Hit) (others []watch.Hit, only []string) {
	if !slices.ContainsFunc(hits, func(h watch.Hit) bool { return impact.PagesOnly(l.plan.Unit(h.Key), h.Rule) }) {
		return hits, nil // as nearly always, also of changes of many files
	}
	files := map[string][]string{}
	reload := map[string]bool{}
	acts := map[string]bool{}
	for _, h := range hits {
		u := l.plan.Unit(h.Key)
		if u == nil {
			others = append(others, h)
			continue
		}
		if !impact.PagesOnly(u, h.Rule) {
			others, acts[h.Key] = append(others, h), true
			continue
		}
		for _, name := range l.relaysOf(u) {
			files[name] = append(files[name], h.Path)
			reload[name] = reload[name] || h.Rule < len(u.Reactions) && u.Reactions[h.Rule].Do == plan.RefreshPage
		}
		only = append(only, h.Key)
	}
	for name, paths := range files {
		l.refresh(name, paths, reload[name])
	}
	slices.Sort(only)
	return others, slices.DeleteFunc(slices.Compact(only), func(name string) bool { return acts[name] })
}

// relaysOf are the relays that a unit is, or stands behind.
func (l *loop) relaysOf(u *plan.Unit) []string {
	if u.Relay != nil {
		return []string{u.Name}
	}
	var names []string
	for _, other := range l.plan.Units {
		if other.Relay == nil {
			continue
		}
		for _, name := range other.Relay.Backends() {
			if slices.Contains(chainOf(l.plan, name), u.Name) {
				names = append(names, other.Name)
				break
			}
		}
	}
	return names
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

// withoutRelays leaves out relays, of whose files the engine does not hear: they do nothing themselves.
func (l *loop) withoutRelays(units []string) []string {
	return slices.DeleteFunc(units, func(name string) bool {
		u := l.plan.Unit(name)
		return u != nil && u.Relay != nil
	})
}
