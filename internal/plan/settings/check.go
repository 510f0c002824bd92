package settings

import (
	"strings"

	"omnivigil/internal/plan"
	"omnivigil/internal/plan/document"
	"omnivigil/internal/text/suggest"
)

// checkNames reports references to units that do not exist, and removes them, so that the search for cycles sees only
// units.
func (r *reader) checkNames() {
	for _, u := range r.plan.Units {
		u.Needs = r.existing(u.Needs, r.places[u.Name+" needs"], u.Name)
		u.Follows = r.existing(u.Follows, r.places[u.Name+" follows"], u.Name)
		if u.Relay != nil {
			r.checkRelay(u)
		}
	}
	for i := range r.plan.Groups {
		g := &r.plan.Groups[i]
		g.Units = r.existing(g.Units, r.places["group "+g.Name], "")
		if r.plan.Unit(g.Name) != nil {
			r.wrong(
				r.places["group "+g.Name].KeyAt,
				"give one of them another name",
				"%q is a unit and a group",
				g.Name,
			)
		}
	}
}

// existing returns the names that are units, and reports the others. The list is at e, which may be in [defaults]:
// then the unit itself is left out.
func (r *reader) existing(names []string, e *document.Entry, self string) []string {
	var kept []string
	for _, name := range names {
		switch {
		case name == self && e == r.defaults.Get(e.Key):
		case name == self:
			r.wrong(e.Item(name), "take it out", "%q names itself in %q", self, e.Key)
		case r.plan.Unit(name) == nil:
			r.wrong(e.Item(name), r.hintAtUnit(name), "there is no unit %q", name)
		default:
			kept = append(kept, name)
		}
	}
	return kept
}

func (r *reader) hintAtUnit(name string) string {
	const enough = 50 // problems, more are not read
	if len(r.Found) > enough {
		return ""
	}
	return suggest.Hint(name, r.plan.UnitNames())
}

// checkCircles reports every cycle of needs and follows once.
func (r *reader) checkCircles() {
	const (
		unseen = iota
		open
		closed
	)
	seen := make(map[string]int, len(r.plan.Units))
	var path []string
	var visit func(u *plan.Unit)
	visit = func(u *plan.Unit) {
		seen[u.Name] = open
		path = append(path, u.Name)
		for _, name := range u.Upstream() {
			switch seen[name] {
			case unseen:
				visit(r.plan.Unit(name))
			case open:
				r.circle(path, name)
			}
		}
		path = path[:len(path)-1]
		seen[u.Name] = closed
	}
	for _, u := range r.plan.Units {
		if seen[u.Name] == unseen {
			visit(u)
		}
	}
}

// circle reports the cycle that the last unit of path closes by naming to.
func (r *reader) circle(path []string, to string) {
	for i, name := range path {
		if name == to {
			path = path[i:]
			break
		}
	}
	last := path[len(path)-1]
	at := r.places[last].KeyAt
	for _, key := range []string{"needs", "follows"} {
		if e := r.places[last+" "+key]; e != nil && e.Item(to) != e.KeyAt {
			at = e.Item(to)
			break
		}
	}
	r.wrong(at, "take out one of these", "units wait for each other in a circle: %s",
		strings.Join(append(append([]string(nil), path...), to), " waits for "))
}
