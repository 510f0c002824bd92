package engine

import (
	"slices"
	"sort"
	"strings"

	"omnivigil/internal/plan"
)

// connect puts the units of a plan into the order of needs and ties them to each
// other. Units that the plan no longer has come last, tied to nobody.
func (e *Engine) connect(p *plan.Plan) {
	e.plan = p
	e.units = e.units[:0]
	for _, spec := range p.InOrder() {
		u := e.byName[spec.Name]
		u.spec = spec
		e.units = append(e.units, u)
	}
	for _, u := range e.byName {
		u.needs, u.follows, u.followers, u.downstream = nil, nil, nil, nil
		if u.removed {
			e.units = append(e.units, u)
		}
	}
	gone := e.units[len(p.Units):]
	sort.Slice(gone, func(i, j int) bool { return gone[i].spec.Name < gone[j].spec.Name })
	for rank, u := range e.units {
		u.rank = rank
		if u.removed {
			continue
		}
		for _, name := range u.spec.Needs {
			up := e.byName[name]
			u.needs = append(u.needs, up)
			up.downstream = append(up.downstream, u)
		}
		for _, name := range u.spec.Follows {
			up := e.byName[name]
			u.follows = append(u.follows, up)
			up.followers = append(up.followers, u)
			up.downstream = append(up.downstream, u)
		}
	}
}

// newPlan goes on with edited settings. Only what the edit means something to
// acts: new units start, removed ones stop, those that run another thing restart.
func (e *Engine) newPlan(ev NewPlan) {
	if e.leaving {
		return
	}
	if e.broken != "" {
		e.broken = ""
		e.give(Tell{Tone: ToneCurrent, Text: "the settings are mended"})
	}
	d := plan.Compare(e.plan, ev.Plan)
	for _, name := range slices.Concat(d.Changed, d.Adjusted) {
		e.disown(e.byName[name]) // the settings may say it now
	}
	for _, name := range d.Removed {
		e.byName[name].removed = true
	}
	for _, name := range d.Added {
		if u := e.byName[name]; u != nil { // back before its old run had ended
			u.removed = false
		} else {
			e.byName[name] = &unit{spec: ev.Plan.Unit(name), owed: debt{whole: true}}
		}
	}
	followed := map[string]map[string]int{}
	for name, u := range e.byName {
		followed[name] = u.generations()
	}
	e.connect(ev.Plan)
	for name, u := range e.byName {
		u.adopt(followed[name])
	}
	e.enqueueAll()
	if d.Empty() {
		return
	}
	r := e.ripples.open(e.now, Cause{Kind: CauseSettings, Text: settingsText(d)})
	for _, name := range d.Removed {
		e.remove(e.byName[name], r)
	}
	for _, name := range d.Added {
		u := e.byName[name]
		r.take(u)
		if !u.spec.Manual {
			u.wanted = true
			e.intend(u, r, "it is new in the settings")
		}
	}
	e.rev++
	for _, name := range d.Changed {
		u := e.byName[name]
		r.take(u)
		e.outdate(u) // its settings are code, too
		u.settled = e.rev
		u.owed.whole, u.deaths = true, 0
		if u.wanted {
			e.intend(u, r, "its settings changed").cut = true
		}
	}
}

// adopt counts what the unit follows from now on as seen: following somebody new
// is no reason to run anew.
func (u *unit) adopt(before map[string]int) {
	for _, f := range u.follows {
		name := f.spec.Name
		if _, known := before[name]; known {
			continue
		}
		u.goodOf = with(u.goodOf, name, f.generation)
		if u.run != nil {
			u.run.sawOf = with(u.run.sawOf, name, f.generation)
		}
	}
}

func with(m map[string]int, name string, n int) map[string]int {
	if m == nil {
		m = map[string]int{}
	}
	m[name] = n
	return m
}

func (e *Engine) remove(u *unit, r *Ripple) {
	u.wanted, u.pending = false, nil
	if u.live() {
		r.take(u)
		u.run.ripples = append(u.run.ripples, r)
		e.stop(u, byWish)
	}
	e.enqueue(u)
}

// dropRemoved forgets units that are gone from the settings and have ended.
func (e *Engine) dropRemoved() {
	for i := len(e.units) - 1; i >= 0 && e.units[i].removed; i-- {
		if u := e.units[i]; !u.live() {
			delete(e.byName, u.spec.Name)
			e.units = append(e.units[:i], e.units[i+1:]...)
		}
	}
}

func (e *Engine) planBroken(ev PlanBroken) {
	if ev.Problem != e.broken {
		e.broken = ev.Problem
		e.give(Tell{Tone: ToneBroken, Text: "the settings are broken, those before stay in force: " + ev.Problem})
	}
}

func settingsText(d plan.Difference) string {
	var parts []string
	for _, p := range []struct {
		names []string
		what  string
	}{{d.Changed, "changed"}, {d.Adjusted, "adjusted"}, {d.Added, "new"}, {d.Removed, "gone"}} {
		if len(p.names) > 0 {
			parts = append(parts, List(p.names)+" "+p.what)
		}
	}
	return "settings: " + strings.Join(parts, ", ")
}
