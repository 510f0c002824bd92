package session

import (
	"fmt"
	"net/netip"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/process/browser"
	"omnivigil/internal/text/escape"
)

// Where units listen, and whether they can.

// taken says in words which address the unit is known to want is held by another process
// else, or "".
func (s *Session) taken(r *liveRun) string {
	var held []string
	for _, address := range r.unit.Ports() {
		if who, taken := s.spawner.Holder(address); taken {
			held = append(held, fmt.Sprintf("port %d is taken by %s", address.Port(), who))
		}
	}
	return strings.Join(held, "; ")
}

func (s *Session) listens(unit string, process int) {
	s.send(engine.Listens{Unit: unit, PID: process})
}

// opened tells that a unit listens on an address, and opens it in the browser where the
// settings say so.
func (s *Session) opened(unit string, a netip.AddrPort) {
	spec := s.Plan().Unit(unit)
	if spec == nil {
		return // an edit has just removed it
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
