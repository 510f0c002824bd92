package plan

import (
	"net/netip"
	"slices"
)

// Relay is what a unit of that kind serves. Its requests wait while something that it stands on is on
// its way.
type Relay struct {
	Listen   netip.AddrPort // loopback where the settings name no address
	To       string         // the service whose pages they are; empty: those of a folder
	Root     string         // absolute; with To empty
	At       []RelayPath    // paths that go elsewhere
	Fallback string         // of a folder: what answers paths that no file has, relative to it
	Needs    []string       // units that have to be ready or done before a page is served
	Refresh  []Pattern      // files that refresh pages by themselves
}

// RelayPath is a prefix of paths and what answers these: a service, or a folder.
type RelayPath struct {
	Prefix string // with a slash at both ends
	To     string
	Root   string // absolute; with To empty
}

// Backends returns the names of the units that a relay's pages come from or wait for, each once.
func (r *Relay) Backends() []string {
	var names []string
	add := func(name string) {
		if name != "" && !slices.Contains(names, name) {
			names = append(names, name)
		}
	}
	add(r.To)
	for _, at := range r.At {
		add(at.To)
	}
	for _, name := range r.Needs {
		add(name)
	}
	return names
}

// String says what it serves, and where.
func (r *Relay) String() string {
	from := r.To
	if from == "" {
		from = r.Root
	}
	return "pages of " + from + " on " + r.Listen.String()
}
