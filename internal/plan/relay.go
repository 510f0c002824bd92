package plan

import (
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
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

// relayOf returns what u serves, to be filled in. While [defaults] are read, that is no unit's.
func relayOf(u *Unit) *Relay {
	if u.Relay == nil {
		u.Relay = &Relay{}
	}
	return u.Relay
}

func readListen(r *reader, u *Unit, e *entry) {
	if !r.want(e.value, textKind, e.key) {
		return
	}
	text := r.expand(e.value.text, e.value.at)
	if text == "" { // a variable is not known, which was told
		return
	}
	if !strings.Contains(text, ":") {
		text = "127.0.0.1:" + text
	}
	if port, ok := strings.CutPrefix(text, "localhost:"); ok {
		text = "127.0.0.1:" + port
	}
	at, err := netip.ParseAddrPort(text)
	if err != nil {
		r.wrong(e.value.at, `such as "127.0.0.1:4170"`, "%q is not an address to listen on", e.value.text)
		return
	}
	relayOf(u).Listen = at
}

func readRelayTo(r *reader, u *Unit, e *entry) {
	if r.want(e.value, textKind, e.key) {
		relayOf(u).To = e.value.text
		r.places[u.Name+" to"] = e
	}
}

func readRelayRoot(r *reader, u *Unit, e *entry) {
	if r.want(e.value, textKind, e.key) {
		relayOf(u).Root = r.absolute(e.value.text)
	}
}

func readRelayAt(r *reader, u *Unit, e *entry) {
	if !r.want(e.value, tablesKind, e.key) {
		return
	}
	relay := relayOf(u)
	relay.At = nil
	for _, k := range e.value.table.entries {
		if !r.want(k.value, textKind, k.key) {
			continue
		}
		if !strings.HasPrefix(k.key, "/") || !strings.HasSuffix(k.key, "/") {
			r.wrong(k.keyAt, `such as "/api/"`, "%q is not a prefix of paths: it begins and ends with a slash", k.key)
		}
		path := RelayPath{Prefix: k.key, To: k.value.text}
		if strings.ContainsAny(path.To, "/"+string(filepath.Separator)) || path.To == "." {
			path.To, path.Root = "", r.absolute(path.To)
		}
		relay.At = append(relay.At, path)
		r.places[u.Name+" at "+k.key] = k
	}
}

// finishRelay tells what is missing of a relay.
func (r *reader) finishRelay(u *Unit, e *entry) {
	relay, table := relayOf(u), e.value.table
	relay.Needs, u.Needs = u.Needs, nil // it serves a page that waits meanwhile
	switch to, root := table.get("to"), table.get("root"); {
	case to == nil && root == nil:
		r.wrong(e.keyAt, `say to = "SERVICE" or root = "FOLDER"`, "a relay has neither \"to\" nor \"root\"")
	case to != nil && root != nil:
		r.wrong(root.keyAt, "keep one of them", "a relay has both \"to\" and \"root\"")
	case root == nil && table.get("fallback") != nil:
		r.wrong(table.get("fallback").keyAt, "take it out", "\"fallback\" is for a folder")
	}
	if !relay.Listen.IsValid() && table.get("listen") == nil {
		r.wrong(e.keyAt, `such as listen = "127.0.0.1:4170"`, "a relay has no \"listen\"")
	}
	u.Watch = relay.Refresh
	u.Ready.After = 1 // it listens, or has not started
}

// checkRelay tells of names that are no services.
func (r *reader) checkRelay(u *Unit) {
	relay := u.Relay
	check := func(name string, at *entry) {
		if name == "" || at == nil {
			return
		}
		switch to := r.plan.Unit(name); {
		case to == nil:
			r.wrong(at.value.at, r.hintAtUnit(name), "there is no unit %q", name)
		case to.Kind != Service:
			r.wrong(
				at.value.at,
				"name a service, or a folder with a slash in it",
				"%q is a %s, which answers no requests",
				name,
				to.Kind,
			)
		}
	}
	check(relay.To, r.places[u.Name+" to"])
	for _, path := range relay.At {
		check(path.To, r.places[u.Name+" at "+path.Prefix])
	}
	relay.Needs = r.existing(relay.Needs, r.places[u.Name+" needs"], u.Name)
}
