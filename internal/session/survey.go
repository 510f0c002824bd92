package session

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/logbook"
	"omnivigil/internal/spawn"
)

// Use is what a unit takes of the machine, and where it can be reached.
type Use struct {
	CPU       float64 // of one core, since the survey before; 1 is all of it
	Memory    int64   // resident bytes, of all its processes
	Endpoints []netip.AddrPort
}

// Uses returns the newest survey, by unit. The map must not be changed.
func (s *Session) Uses() map[string]Use {
	if u := s.uses.Load(); u != nil {
		return *u
	}
	return nil
}

// Listening sockets are looked for often, since a person waits for them; it costs
// little as long as there are no new ones. What processes take is looked at
// seldom.
const (
	listenPause = 200 * time.Millisecond
	surveyEvery = 10 // as many listenPauses
)

// survey keeps Uses up to date until the session is over.
func (s *Session) survey() {
	ticker := time.NewTicker(listenPause)
	defer ticker.Stop()
	before, told := map[*spawn.Process]spawn.Use{}, map[string]bool{}
	last := time.Now()
	kept, err := openSamples(s.book.Dir())
	if err != nil {
		s.Note(err.Error())
	} else {
		defer kept.file.Close()
	}
	for n := 0; ; n++ {
		select {
		case <-ticker.C:
		case <-s.stopped:
			return
		}
		next := maps.Clone(s.Uses())
		if next == nil {
			next = map[string]Use{}
		}
		surveyed := n%surveyEvery == 0
		// A process that was just being made may have been overlooked, so now and
		// then all are looked at again.
		listening, looked := s.spawner.Listening(surveyed)
		changed := looked && s.reached(next, listening, told)
		if surveyed {
			now, used := time.Now(), s.spawner.Survey()
			tally(next, before, used, now.Sub(last))
			before, last = used, now
			if kept != nil {
				if err := kept.add(now, next); err != nil {
					s.Note(err.Error())
					kept = nil
				}
			}
		}
		if changed || surveyed {
			s.uses.Store(&next)
		}
		if changed { // figures alone can wait for the next look
			s.notify()
		}
	}
}

// reached enters where units listen, and tells of each address the first time that
// it opens: after a restart it is where a person expects it. It reports whether
// anything is new or gone.
func (s *Session) reached(uses map[string]Use, listening map[*spawn.Process][]netip.AddrPort, told map[string]bool) (changed bool) {
	now := map[string][]netip.AddrPort{}
	for p, addresses := range listening {
		now[p.Name()] = addresses
	}
	for _, unit := range s.Plan().Units {
		u := uses[unit.Name]
		for _, a := range now[unit.Name] {
			if key := unit.Name + " " + a.String(); !told[key] {
				told[key] = true
				s.opened(unit.Name, a)
			}
		}
		changed = changed || !slices.Equal(u.Endpoints, now[unit.Name])
		u.Endpoints = now[unit.Name]
		uses[unit.Name] = u
	}
	return changed
}

func (s *Session) opened(unit string, a netip.AddrPort) {
	text := "listens on " + a.String()
	spec := s.Plan().Unit(unit).Endpoint
	if int(a.Port()) == spec.Port {
		if spec.WhenUp == "quiet" {
			return
		}
		if spec.Label != "" {
			text += " (" + spec.Label + ")"
		}
		if spec.WhenUp == "browse" {
			if err := Browse(a); err != nil {
				text += "; " + err.Error()
			}
		}
	}
	e := logbook.Entry{Unit: unit, Stream: logbook.Note, Tone: logbook.Current}
	if u := s.Snapshot().Unit(unit); u != nil {
		e.Run = u.Run.Number
	}
	s.book.Append(e, text)
}

// Browse opens an address in the person's browser.
func Browse(a netip.AddrPort) error {
	host := a.Addr().String()
	if a.Addr().IsUnspecified() {
		host = "localhost"
	} else if a.Addr().Is6() {
		host = "[" + host + "]"
	}
	url := fmt.Sprintf("http://%s:%d/", host, a.Port())
	if err := openURL(url); err != nil {
		return fmt.Errorf("open %s in the browser: %w", url, err)
	}
	return nil
}

// tally turns cpu times into shares of a core since the survey before.
func tally(uses map[string]Use, before, now map[*spawn.Process]spawn.Use, passed time.Duration) {
	for name, u := range uses {
		u.CPU, u.Memory = 0, 0
		uses[name] = u
	}
	for p, used := range now {
		u := uses[p.Name()]
		u.Memory += used.Memory
		if was, ok := before[p]; ok && passed > 0 {
			u.CPU += max(used.CPU-was.CPU, 0).Seconds() / passed.Seconds()
		}
		uses[p.Name()] = u
	}
}

// taken says in words which port the unit is known to want is held by somebody
// else, or "".
func (s *Session) taken(r *liveRun) string {
	var held []string
	for _, port := range r.unit.Ports() {
		if who, taken := s.spawner.Holder(port); taken {
			held = append(held, fmt.Sprintf("port %d is taken by %s", port, who))
		}
	}
	return strings.Join(held, "; ")
}
