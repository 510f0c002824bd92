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
		members := p.Expand(name)
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

// Expand returns the units for the name of a unit, group or member, or nil. The name may be short: see FullName.
func (p *Plan) Expand(name string) []string { return p.exactly(p.FullName("", name)) }

// FullName returns the full name of a unit or group. A short name is that of a unit or group of the member from, if it
// has one, or else of the only member that has one. Other names are returned as they are.
func (p *Plan) FullName(from, name string) string {
	if from != "" && p.exactly(from+"/"+name) != nil {
		return from + "/" + name
	}
	if p.exactly(name) != nil {
		return name
	}
	full := ""
	for _, m := range p.Members {
		if p.exactly(m.Name+"/"+name) != nil {
			if full != "" {
				return name
			}
			full = m.Name + "/" + name
		}
	}
	if full == "" {
		return name
	}
	return full
}

// exactly is Expand for full names.
func (p *Plan) exactly(name string) []string {
	if p.Unit(name) != nil {
		return []string{name}
	}
	for _, g := range p.Groups {
		if g.Name == name {
			return g.Units
		}
	}
	var units []string
	if p.Member(name) != nil {
		for _, u := range p.Units {
			if u.Member == name {
				units = append(units, u.Name)
			}
		}
	}
	return units
}

// Hint tells which unit, group or member a mistyped name probably means or, if none is similar, which there are.
func (p *Plan) Hint(typed string) string {
	names := p.UnitNames()
	for _, g := range p.Groups {
		names = append(names, g.Name)
	}
	for _, m := range p.Members {
		names = append(names, m.Name)
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
