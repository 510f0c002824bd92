package plan

import (
	"omnivigil/internal/text/suggest"
)

func (p *Plan) UnitNames() []string {
	names := make([]string, len(p.Units))
	for i, u := range p.Units {
		names[i] = u.Name
	}
	return names
}

// Upstream returns everything that a unit waits for: what it needs and what it follows.
func (u *Unit) Upstream() []string {
	return append(append([]string(nil), u.Needs...), u.Follows...)
}

// WithNeeds returns the units for names of units and groups, with everything that they need or follow, in the order
// of the file. The second result is the unknown names.
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

// Members returns the units for the name of a unit or group, or nil.
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

// Hint tells which unit or group a mistyped name probably means or, if none is similar, which there are.
func (p *Plan) Hint(typed string) string {
	names := p.UnitNames()
	for _, g := range p.Groups {
		names = append(names, g.Name)
	}
	return suggest.Hint(typed, names)
}

// InOrder returns the units so that each comes after everything that it waits for, and otherwise in the order of the
// file.
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
