package plan

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"omnivigil/internal/text/suggest"
)

func (p *Plan) unitNames() []string {
	names := make([]string, len(p.Units))
	for i, u := range p.Units {
		names[i] = u.Name
	}
	return names
}

// checkNames tells of references to units that do not exist, and drops them so
// that the search for circles sees units only.
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
				r.places["group "+g.Name].keyAt,
				"give one of them another name",
				"%q is a unit and a group",
				g.Name,
			)
		}
	}
}

// existing returns the names that are units, and tells of the others. The list stands
// at e, which may be one of [defaults]: there the unit itself is left out.
func (r *reader) existing(names []string, e *entry, self string) []string {
	var kept []string
	for _, name := range names {
		switch {
		case name == self && e == r.defaults.get(e.key):
		case name == self:
			r.wrong(e.item(name), "take it out", "%q names itself in %q", self, e.key)
		case r.plan.Unit(name) == nil:
			r.wrong(e.item(name), r.hintAtUnit(name), "there is no unit %q", name)
		default:
			kept = append(kept, name)
		}
	}
	return kept
}

func (r *reader) hintAtUnit(name string) string {
	const enough = 50 // problems, after which has no reader on
	if len(r.found) > enough {
		return ""
	}
	names := r.plan.unitNames()
	if near := suggest.Name(name, names); near != "" {
		return "did you mean " + strconv.Quote(near) + "?"
	}
	const few = 12
	if more := len(names) - few; more > 0 {
		return fmt.Sprintf("the file has %s and %d more", strings.Join(names[:few], ", "), more)
	}
	return "the file has " + strings.Join(names, ", ")
}

// item returns the place of that text in a list, or that of the key.
func (e *entry) item(name string) place {
	if e.items == nil {
		e.items = map[string]place{}
		for _, v := range slices.Backward(e.value.items) {
			e.items[v.text] = v.at
		}
	}
	if at, ok := e.items[name]; ok {
		return at
	}
	return e.keyAt
}

// Upstream returns all that a unit waits for: what it needs and what it follows.
func (u *Unit) Upstream() []string {
	return append(append([]string(nil), u.Needs...), u.Follows...)
}

// checkCircles tells of every circle of needs and follows once.
func (r *reader) checkCircles() {
	const (
		unseen = iota
		open
		closed
	)
	seen := make(map[string]int, len(r.plan.Units))
	var path []string
	var visit func(u *Unit)
	visit = func(u *Unit) {
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

// circle notes the circle that the last unit of path closes by naming to.
func (r *reader) circle(path []string, to string) {
	for i, name := range path {
		if name == to {
			path = path[i:]
			break
		}
	}
	last := path[len(path)-1]
	at := r.places[last].keyAt
	for _, key := range []string{"needs", "follows"} {
		if e := r.places[last+" "+key]; e != nil && e.item(to) != e.keyAt {
			at = e.item(to)
			break
		}
	}
	r.wrong(at, "take out one of these", "units wait for each other in a circle: %s",
		strings.Join(append(append([]string(nil), path...), to), " waits for "))
}

// WithNeeds returns the units of that name or group and all that they need or
// follow, in the order of the file. The second result names what is neither.
func (p *Plan) WithNeeds(names []string) (units []*Unit, unknown string) {
	taken := map[string]bool{}
	var take func(name string)
	take = func(name string) {
		if taken[name] {
			return
		}
		taken[name] = true
		for _, up := range p.Unit(name).Upstream() {
			take(up)
		}
	}
	for _, name := range names {
		members := p.Members(name)
		if members == nil {
			return nil, name
		}
		for _, m := range members {
			take(m)
		}
	}
	for _, u := range p.Units {
		if taken[u.Name] {
			units = append(units, u)
		}
	}
	return units, ""
}

// Members returns the units that the name of a unit or group stands for, or nil.
func (p *Plan) Members(name string) []string {
	if p.Unit(name) != nil {
		return []string{name}
	}
	for _, g := range p.Groups {
		if g.Name == name {
			return g.Units
		}
	}
	return nil
}

// Suggest returns the unit or group whose name is most like the one typed, or "".
func (p *Plan) Suggest(typed string) string {
	names := p.unitNames()
	for _, g := range p.Groups {
		names = append(names, g.Name)
	}
	return suggest.Name(typed, names)
}

// InOrder returns the units so that each comes after all that it waits for, and
// otherwise in the order of the file.
func (p *Plan) InOrder() []*Unit {
	var ordered []*Unit
	placed := map[string]bool{}
	var put func(u *Unit)
	put = func(u *Unit) {
		if placed[u.Name] {
			return
		}
		placed[u.Name] = true
		for _, name := range u.Upstream() {
			put(p.Unit(name))
		}
		ordered = append(ordered, u)
	}
	for _, u := range p.Units {
		put(u)
	}
	return ordered
}
