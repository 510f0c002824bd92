package session

import (
	"net/netip"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/process/browser"
	"omnivigil/internal/text/escape"
)

// The addresses that units listen on, and whether they can.

func (s *Session) listens(unit string, process int) {
	s.send(engine.Listens{Unit: unit, PID: process})
}

// opened reports that a unit listens on an address, and opens it in the browser if the settings say so.
func (s *Session) opened(unit string, a netip.AddrPort) {
	spec := s.Plan().Unit(unit)
	if spec == nil {
		return // an edit has just removed the unit
	}
	text := "listens on " + a.String()
	if at := spec.Endpoint; int(a.Port()) == at.Port || spec.Relay != nil {
		if at.WhenUp == "quiet" {
			return
		}
		if at.Label != "" {
			text += " (" + escape.Text(at.Label) + ")"
		}
		if at.WhenUp == "browse" {
			if err := browser.Open(a); err != nil {
				text += "; " + err.Error()
			}
		}
	}
	e := logbook.Entry{Unit: unit, Tone: logbook.Current}
	if u := s.state().Unit(unit); u != nil {
		e.Run = u.Run.Number
	}
	s.say(e, api.Fact{Kind: api.FactAddressOpened, Text: text, Address: a.String()})
}

// addressOf is the address of a unit: from the settings, or as it was seen to listen.
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
