package engine

import (
	"slices"
	"sort"

	"omnivigil/internal/plan"
)

// connect sorts the units of a plan by needs and links them. Units that the plan no longer has come last, without
// links.
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
	e.standings.place(e.inFileOrder())
}

// newPlan continues with edited settings. Only what the edit changes acts: new units start, removed ones stop, those
// that run something else restart.
func (e *Engine) newPlan(ev NewPlan) {
	if e.quitting {
		return
	}
	e.settingsRead = max(e.settingsRead, ev.Burst)
	e.saysBroken(ev.Problem)
	d := plan.Compare(e.plan, ev.Plan)
	for _, name := range slices.Concat(d.Changed, d.Adjusted) {
		e.reactAgain(e.byName[name]) // the settings may ignore them now
	}
	for _, name := range d.Removed {
		u := e.byName[name]
		u.removed, u.narrowed, u.narrowWords = true, "", nil
	}
	for _, name := range d.Added {
		if u := e.byName[name]; u != nil { // it returned before its old run had ended
			u.removed = false
		} else {
			e.byName[name] = newUnit(ev.Plan.Unit(name))
		}
	}
	followed := map[string]map[string]int{}
	for name, u := range e.byName {
		followed[name] = u.generations()
	}
	e.connect(ev.Plan)
	for name, u := range e.byName {
		u.adopt(followed[name])
		if !u.spec.ComparesTimes {
			u.saved = nil
			e.endDoubts(u, Doubt.aboutTimes)
		}
	}
	e.enqueueAll()
	if d.Empty() {
		return
	}
	r := e.ripples.open(e.now, Cause{Kind: CauseSettings, Reason: Reason{Kind: ReasonSettings, Settings: &d}})
	e.tell(Fact{Kind: FactSettingsUsed, Ripple: r.ID, Reasons: []Reason{r.Cause.Reason}})
	if !e.settingsSince.IsZero() {
		r.Since = e.settingsSince
	}
	e.save(r)
	for _, name := range d.Removed {
		e.remove(e.byName[name], r)
	}
	for _, name := range d.Added {
		u := e.byName[name]
		r.take(u)
		if !u.spec.Manual {
			u.wanted = true
			e.intend(u, r, Reason{Kind: ReasonNewUnit})
		}
	}
	e.rev++
	for _, name := range d.Changed {
		u := e.byName[name]
		if r.take(u); !u.spec.Kind.Ends() {
			u.narrowed, u.narrowWords = "", nil
		}
		e.outdate(u) // its settings are code, too
		u.settled = e.rev
		u.deaths = 0
		if u.wanted {
			e.intend(u, r, Reason{Kind: ReasonUnitSettings, Text: d.Reason(name)}).cut = true
		} else {
			u.owed.whole = true
		}
	}
}

// adopt counts the state of the units that it follows as seen: following another unit is no reason to run.
func (u *unit) adopt(before map[string]int) {
	for _, f := range u.follows {
		name := f.spec.Name
		if _, known := before[name]; known {
			continue
		}
		u.goodBuiltOn = with(u.goodBuiltOn, name, f.generation)
		if u.run != nil {
			u.run.builtOn = with(u.run.builtOn, name, f.generation)
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
	u.wanted = false
	u.dropPending()
	if u.live() {
		r.take(u)
		u.run.ripples = append(u.run.ripples, r)
		e.stop(u, byRequest)
	}
	e.enqueue(u)
}

// dropRemoved forgets units that were removed from the settings and have ended.
func (e *Engine) dropRemoved() {
	for i := len(e.units) - 1; i >= 0 && e.units[i].removed; i-- {
		if u := e.units[i]; !u.live() {
			delete(e.byName, u.spec.Name)
			if u.run != nil {
				e.numbers[u.spec.Name] = u.run.Number
			}
			e.units = append(e.units[:i], e.units[i+1:]...)
			e.standings.place(e.inFileOrder())
		}
	}
}

func (e *Engine) planBroken(ev PlanBroken) {
	e.settingsRead = max(e.settingsRead, ev.Burst)
	e.saysBroken(ev.Problem)
}

// saysBroken records why saved settings are not in use; empty: they are.
func (e *Engine) saysBroken(problem string) {
	if problem == e.broken {
		return
	}
	if e.broken = problem; problem == "" {
		e.tell(Fact{Kind: FactSettingsUsed})
	} else {
		e.tell(Fact{Kind: FactSettingsBad, Problem: told(problem)})
	}
}

// touchSettings makes the project updating until the settings are read.
func (e *Engine) touchSettings(ev SettingsTouched) {
	if !e.settingsPending() {
		e.settingsSince = e.now
	}
	e.settingsTouched = max(e.settingsTouched, ev.Burst)
}

// settingsPending reports whether settings were written that have not been read.
func (e *Engine) settingsPending() bool { return e.settingsTouched > e.settingsRead }
