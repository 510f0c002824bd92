package plan

import (
	"net/netip"
	"slices"
)

// Relay is what a unit of that kind serves. Requests wait while a unit behind it is starting.
type Relay struct {
	Listen   netip.AddrPort // loopback if the settings name no address
	To       string         // the service behind it; empty: a directory
	Root     string         // absolute; with To empty
	At       []RelayPath    // path prefixes with another target
	Fallback string         // of a directory: served for paths without a file, relative to it
	Needs    []string       // units that must be ready or done before a page is served
	Refresh  []Pattern      // files that refresh pages
}

// RelayPath is a path prefix with its target: a service, or a directory.
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

// String describes what it serves, and where.
func (r *Relay) String() string {
	from := r.To
	if from == "" {
		from = r.Root
	}
	return "pages of " + from + " on " + r.Listen.String()
}

// ForPages reports whether a file that matches a rule of the unit is only for pages: those of a relay, or of relays
// that the unit is behind. The unit itself does nothing then. The rule is the number of a reaction, from 1, or 0 for
// the unit's watch patterns.
func (u *Unit) ForPages(rule int) bool {
	return u.Relay != nil || rule > 0 && rule <= len(u.Reactions) && u.Reactions[rule-1].Do.Pages()
}

// Chain returns a unit and everything that it needs and follows, directly or not, ordered by name, without suites:
// their results do not change a page.
func (p *Plan) Chain(unit string) []string {
	var names []string
	open := []string{unit}
	for len(open) > 0 {
		name := open[0]
		open = open[1:]
		u := p.Unit(name)
		if u == nil || u.Kind == Suite || slices.Contains(names, name) {
			continue
		}
		names = append(names, name)
		open = append(open, slices.Concat(u.Needs, u.Follows)...)
	}
	slices.Sort(names)
	return names
}

// RelaysOf returns the relays that a unit is, or is behind, in the order of the settings.
func (p *Plan) RelaysOf(u *Unit) []string {
	if u.Relay != nil {
		return []string{u.Name}
	}
	var names []string
	for _, relay := range p.Units {
		if relay.Relay != nil && slices.ContainsFunc(relay.Relay.Backends(), func(name string) bool {
			return slices.Contains(p.Chain(name), u.Name)
		}) {
			names = append(names, relay.Name)
		}
	}
	return names
}
