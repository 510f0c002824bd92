package view

import (
	"cmp"
	"context"
	"fmt"
	"net/netip"
	"os"

	"omnivigil/internal/output/locate"
	"omnivigil/internal/process/browser"
	"omnivigil/internal/text/location"
)

// Remote is the other machine on which the project runs. Its paths are not those of this machine, so nothing is opened
// here because the other side names it.
type Remote struct {
	Name string // as it is shown
	// User and Host are those of its address for editors; User may be empty.
	User, Host string
	// Forward returns an address of this machine that leads to a port of the other one. It may block.
	Forward func(port int) (netip.AddrPort, error)
}

// openThere opens a location of the other machine in an editor that can, or shows it.
func (m *Model) openThere(p location.Location) {
	editor := cmp.Or(m.Editor, os.Getenv("VISUAL"), os.Getenv("EDITOR"))
	if there, can := locate.There(editor, m.Remote.User, m.Remote.Host, p); can {
		m.runEditor(there, locate.NeedsTerminal(editor))
		return
	}
	m.Said = fmt.Sprintf("%s, on %s", p.Text(), m.Remote.Name)
}

// browseThere opens an address of the other machine in the browser here.
func (m *Model) browseThere(address netip.AddrPort) {
	forward, name := m.Remote.Forward, m.Remote.Name
	m.Later(func(context.Context) Then {
		local, err := forward(int(address.Port()))
		if err == nil {
			err = browser.Open(local)
		}
		return func() {
			if err != nil {
				m.Notice = err.Error()
				return
			}
			m.Said = fmt.Sprintf("http://127.0.0.1:%d/ leads to port %d of %s", local.Port(), address.Port(), name)
		}
	})
}

// Locations are the locations in a text that exist on this machine, for paths relative to some directories. Of another
// machine, none is known to exist.
func (m *Model) Locations(text string, dirs ...string) []location.Location {
	if m.Remote != nil {
		return nil
	}
	return locate.In(text, dirs...)
}
