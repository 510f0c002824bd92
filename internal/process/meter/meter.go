// Package meter measures CPU time and memory of units, and finds the addresses that they listen on. Start reading at
// Meter.
package meter

import (
	"maps"
	"math"
	"net/netip"
	"slices"
	"sync/atomic"
	"time"

	"omnivigil/internal/process"
)

// Use is what a unit uses of the machine, and its addresses.
type Use struct {
	CPU       float64 // of one core, since the last survey; 1 is a whole core
	Memory    int64   // resident bytes, of all its processes
	Endpoints []netip.AddrPort
}

// Listening sockets are checked often while a run is young, because a user waits for them. Usage is checked less often.
const (
	listenPause = 200 * time.Millisecond
	surveyPause = 2 * time.Second
	allEvery    = 5 // surveys of which one checks the sockets of all processes while no run is young
)

// Source is what a Meter reads from: a spawner.
type Source interface {
	Listening(anyway bool) (map[*process.Process][]netip.AddrPort, bool)
	Survey() map[*process.Process]process.Use
}

// Meter measures the units of a project periodically.
type Meter struct {
	Source Source
	Opened func(string, netip.AddrPort) // called when a unit listens on an address for the first time
	Moved  func()                       // called when addresses were added or removed
	// Listens, if set, is called when a process of a unit starts to listen.
	Listens func(unit string, process int)
	Note    func(string) // a message for the user
	// Surveyed, if set, is called after each survey.
	Surveyed func()
	// Sampled, if set, is called with the figures of each survey.
	Sampled func(now time.Time, figures map[string]Sample)
	// Written, if set, returns how many bytes a unit has written since the session started.
	Written func(unit string) int64
	// Young, if set, reports whether a run has started a short time ago.
	Young func() bool

	begun  chan struct{} // see Begun
	uses   atomic.Pointer[map[string]Use]
	told   map[opened]bool
	listen map[*process.Process]bool
	before map[*process.Process]process.Use
	last   time.Time
}

// New returns a meter, whose fields are to be set before Run.
func New(source Source) *Meter { return &Meter{Source: source, begun: make(chan struct{}, 1)} }

// Begun notes that a run starts. It does not block, and may be called from any goroutine.
func (m *Meter) Begun() {
	select {
	case m.begun <- struct{}{}:
	default:
	}
}

type opened struct {
	unit    string
	address netip.AddrPort
}

// Uses returns the last survey, by unit. The map must not be changed. It may be called from any goroutine.
func (m *Meter) Uses() map[string]Use {
	if u := m.uses.Load(); u != nil {
		return *u
	}
	return nil
}

// Run keeps Uses up to date until stopped is closed.
func (m *Meter) Run(stopped <-chan struct{}) {
	m.told, m.last = map[opened]bool{}, time.Now()
	next, surveyed := m.last.Add(listenPause), time.Time{}
	timer := time.NewTimer(listenPause)
	defer timer.Stop()
	for n := 0; ; {
		timer.Reset(time.Until(next))
		select {
		case <-timer.C:
		case <-m.begun: // it may not be known to be young yet
			if soon := time.Now().Add(listenPause); soon.Before(next) {
				next = soon
			}
			continue
		case <-stopped:
			return
		}
		now := time.Now()
		young := m.Young == nil || m.Young()
		if next = now.Add(surveyPause); young {
			next = now.Add(listenPause)
		}
		if now.Sub(surveyed) < surveyPause-listenPause/2 { // a tick may come a little early
			if m.look(now, false, false) {
				m.Moved()
			}
			continue
		}
		surveyed, n = now, n+1
		moved := m.look(now, true, young || n%allEvery == 0)
		if m.Surveyed != nil {
			m.Surveyed()
		}
		if m.Sampled != nil {
			m.Sampled(now, m.samples())
		}
		if moved { // figures alone can wait for the next round
			m.Moved()
		}
	}
}

// Sample is what a unit uses at a time.
type Sample struct {
	CPU    float64 // of one core; 1 is a whole core
	Memory int64   // resident bytes
	Output int64   // bytes written since the session started
}

// Differs reports whether figures differ by more than a hundredth of a core, a twentieth of the memory, or any output.
func (s Sample) Differs(from Sample) bool {
	return math.Abs(s.CPU-from.CPU) > 0.01 ||
		math.Abs(float64(s.Memory-from.Memory)) > 0.05*float64(max(s.Memory, from.Memory)) || s.Output != from.Output
}

// samples are the newest figures.
func (m *Meter) samples() map[string]Sample {
	all := map[string]Sample{}
	for unit, u := range m.Uses() {
		if u.CPU == 0 && u.Memory == 0 {
			continue
		}
		s := Sample{CPU: u.CPU, Memory: u.Memory}
		if m.Written != nil {
			s.Output = m.Written(unit)
		}
		all[unit] = s
	}
	return all
}

// look measures once and reports whether addresses were added or removed. It may have missed a process that was just
// being created, so all are checked again from time to time.
func (m *Meter) look(now time.Time, survey, all bool) (moved bool) {
	next := map[string]Use{}
	listening, looked := m.Source.Listening(all)
	for unit, u := range m.Uses() {
		if looked {
			u.Endpoints = nil
		}
		if survey {
			u.CPU, u.Memory = 0, 0
		}
		next[unit] = u
	}
	if looked {
		for unit, addresses := range byUnit(listening) {
			u := next[unit]
			u.Endpoints = addresses
			next[unit] = u
		}
		moved = m.tellOpened(next)
		m.tellListening(listening)
	}
	if survey {
		m.tally(next, m.Source.Survey(), now)
	}
	maps.DeleteFunc(next, func(_ string, u Use) bool { return u.CPU == 0 && u.Memory == 0 && len(u.Endpoints) == 0 })
	if looked || survey {
		m.uses.Store(&next)
	}
	return moved
}

// byUnit merges the addresses of the processes of each unit, in order.
func byUnit(listening map[*process.Process][]netip.AddrPort) map[string][]netip.AddrPort {
	all := map[string][]netip.AddrPort{}
	for p, addresses := range listening {
		all[p.Name()] = append(all[p.Name()], addresses...)
	}
	for unit := range all {
		slices.SortFunc(all[unit], netip.AddrPort.Compare)
		all[unit] = slices.Compact(all[unit])
	}
	return all
}

// tellOpened reports each address the first time that it opens: after a restart it is where a user expects it. It
// reports whether any was added or removed.
func (m *Meter) tellOpened(next map[string]Use) (moved bool) {
	for _, unit := range slices.Sorted(maps.Keys(next)) {
		now := next[unit].Endpoints
		for _, a := range now {
			if key := (opened{unit, a}); !m.told[key] {
				m.told[key] = true
				m.Opened(unit, a)
			}
		}
		moved = moved || !slices.Equal(now, m.Uses()[unit].Endpoints)
	}
	return moved
}

func (m *Meter) tellListening(all map[*process.Process][]netip.AddrPort) {
	now := map[*process.Process]bool{}
	for p, addresses := range all {
		if now[p] = len(addresses) > 0; now[p] && !m.listen[p] && m.Listens != nil {
			m.Listens(p.Name(), p.ID())
		}
	}
	m.listen = now
}

// tally turns CPU times into shares of a core since the last survey. A process that was not there then has started
// since.
func (m *Meter) tally(uses map[string]Use, now map[*process.Process]process.Use, at time.Time) {
	passed := at.Sub(m.last)
	for p, used := range now {
		u := uses[p.Name()]
		u.Memory += used.Memory
		if passed > 0 {
			u.CPU += max(used.CPU-m.before[p].CPU, 0).Seconds() / passed.Seconds()
		}
		uses[p.Name()] = u
	}
	m.before, m.last = now, at
}
