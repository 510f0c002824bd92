package settings

import (
	"net/netip"
	"path/filepath"
	"strings"

	"github.com/google/jsonschema-go/jsonschema"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
)

// relayOf returns what u serves, to be filled in. While [defaults] are read, it belongs to no unit.
func relayOf(u *plan.Unit) *plan.Relay {
	if u.Relay == nil {
		u.Relay = &plan.Relay{}
	}
	return u.Relay
}

func readListen(r *reader, u *plan.Unit, e *document.Entry) {
	if !r.Want(e.Value, document.TextKind, e.Key) {
		return
	}
	text := r.expand(e.Value.Text, e.Value.At)
	if text == "" { // a variable is unknown, which was reported
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
		r.Wrong(e.Value.At, `such as "127.0.0.1:4170"`, "%q is not an address to listen on", e.Value.Text)
		return
	}
	relayOf(u).Listen = at
}

func readRelayTo(r *reader, u *plan.Unit, e *document.Entry) {
	if r.Want(e.Value, document.TextKind, e.Key) {
		relayOf(u).To = e.Value.Text
		r.places[u.Name+" to"] = e
	}
}

func readRelayRoot(r *reader, u *plan.Unit, e *document.Entry) {
	if r.Want(e.Value, document.TextKind, e.Key) {
		relayOf(u).Root = r.absolute(e.Value.Text)
	}
}

func readRelayAt(r *reader, u *plan.Unit, e *document.Entry) {
	if !r.Want(e.Value, document.TablesKind, e.Key) {
		return
	}
	relay := relayOf(u)
	relay.At = nil
	for _, k := range e.Value.Table.Entries {
		if !r.Want(k.Value, document.TextKind, k.Key) {
			continue
		}
		if !strings.HasPrefix(k.Key, "/") || !strings.HasSuffix(k.Key, "/") {
			r.Wrong(k.KeyAt, `such as "/api/"`, "%q is not a prefix of paths: it begins and ends with a slash", k.Key)
		}
		path := plan.RelayPath{Prefix: k.Key, To: k.Value.Text}
		if strings.ContainsAny(path.To, "/"+string(filepath.Separator)) || path.To == "." {
			path.To, path.Root = "", r.absolute(path.To)
		}
		relay.At = append(relay.At, path)
		r.places[u.Name+" at "+k.Key] = k
	}
}

func relayAtShape() *jsonschema.Schema {
	shape := named(textShape())
	shape.PropertyNames = textLike(`^/(.*/)?$`)
	return shape
}

// finishRelay reports missing keys of a relay.
func (r *reader) finishRelay(u *plan.Unit, e *document.Entry) {
	relay, table := relayOf(u), e.Value.Table
	relay.Needs, u.Needs = u.Needs, nil // it serves a waiting page meanwhile
	switch to, root := table.Get("to"), table.Get("root"); {
	case to == nil && root == nil:
		r.Wrong(e.KeyAt, `say to = "SERVICE" or root = "FOLDER"`, "a relay has neither \"to\" nor \"root\"")
	case to != nil && root != nil:
		r.Wrong(root.KeyAt, "keep one of them", "a relay has both \"to\" and \"root\"")
	case root == nil && table.Get("fallback") != nil:
		r.Wrong(table.Get("fallback").KeyAt, "take it out", "\"fallback\" is for a directory")
	}
	if !relay.Listen.IsValid() && table.Get("listen") == nil {
		r.Wrong(e.KeyAt, `such as listen = "127.0.0.1:4170"`, "a relay has no \"listen\"")
	}
	u.Watch = relay.Refresh
	u.Ready.After = 1 // it listens, or has not started
}

// checkRelay reports names that are not services.
func (r *reader) checkRelay(u *plan.Unit) {
	relay := u.Relay
	check := func(name string, at *document.Entry) (full string) {
		if name == "" || at == nil {
			return name
		}
		full = r.resolve(name)
		switch to := r.plan.Unit(full); {
		case to == nil:
			r.Wrong(at.Value.At, r.hintAtUnit(name), "there is no unit %q", name)
		case to.Kind != plan.Service:
			r.Wrong(
				at.Value.At,
				"name a service, or a directory with a slash in it",
				"%q is a %s, which answers no requests",
				name,
				to.Kind,
			)
		}
		return full
	}
	relay.To = check(relay.To, r.places[u.Name+" to"])
	for i := range relay.At {
		path := &relay.At[i]
		at := r.places[u.Name+" at "+path.Prefix]
		if at != nil && r.plan.Unit(at.Value.Text) != nil { // MEMBER/UNIT, and not a directory
			path.To, path.Root = at.Value.Text, ""
		}
		path.To = check(path.To, at)
	}
	relay.Needs = r.existing(relay.Needs, u.Name, "needs")
}
