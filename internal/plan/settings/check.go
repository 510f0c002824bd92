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
	for _, u := range r.own() {
		u.Needs = r.existing(u.Needs, u.Name, "needs")
		u.Follows = r.existing(u.Follows, u.Name, "follows")
		if u.Relay != nil {
			r.checkRelay(u)
		}
	}
	for i := range r.plan.Groups {
		g := &r.plan.Groups[i]
		at := r.places["group "+g.Name]
		if at == nil { // it is in another file
			continue
		}
		g.Units = r.found(g.Units, at, func(string) bool { return false })
		if r.plan.Unit(g.Name) != nil {
			r.Wrong(at.KeyAt, "give one of them another name", "%q is a unit and a group", g.Name)
		}
	}
}

// existing returns the full names of the units that a key of a unit names, and reports those that are no units. The
// list may be in [defaults]: then the unit itself is left out.
func (r *reader) existing(names []string, unit, key string) []string {
	at := r.places[unit+" "+key]
	if at == nil && r.above != nil { // in the defaults of the project
		return r.above.existing(names, unit, key)
	}
	return r.found(names, at, func(name string) bool {
		if name == unit && at != r.defaults.Get(at.Key) {
			r.Wrong(at.Item(unit), "take it out", "%q names itself in %q", unit, key)
		}
		return name == unit
	})
}

// found returns the full names of units, except those to skip, and reports names in a list that are no units.
func (r *reader) found(names []string, at *document.Entry, skip func(full string) bool) []string {
	var kept []string
	for _, name := range names {
		switch full := r.resolve(name); {
		case full == "" && r.isElsewhere(name): // it runs by itself, and does not wait for the project's units
		case full == "":
			r.Wrong(at.Item(name), r.hintAtUnit(name), "there is no unit %q", name)
		case !skip(full):
			kept = append(kept, full)
		}
	}
	return kept
}

// isElsewhere reports whether this is the file of a member that is read by itself, and its project has a unit of that
// name.
func (r *reader) isElsewhere(name string) bool {
	if r.above != nil {
		return false
	}
	if r.elsewhere == nil {
		r.elsewhere = &plan.Plan{}
		if file := Project(r.file); file != "" {
			if p, err := Read(file); err == nil {
				r.elsewhere = p
			}
		}
	}
	return r.elsewhere.Unit(name) != nil
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
	owner := r.owners[last]
	if owner == nil { // it is in settings that are no longer there
		owner = r
	}
	at := document.Place{Line: 1, Column: 1, Width: 1}
	if e := owner.places[last]; e != nil {
		at = e.KeyAt
	}
	for _, key := range []string{"needs", "follows"} {
		if e := owner.places[last+" "+key]; e != nil && e.Item(to) != e.KeyAt {
			at = e.Item(to)
			break
		}
	}
	owner.Wrong(at, "take out one of these", "units wait for each other in a circle: %s",
		strings.Join(append(append([]string(nil), path...), to), " waits for "))
}
