package engine

import (
	"fmt"
	"slices"

	"omnivigil/internal/plan"
)

// What browsers see of a project is decided here: when a page waits, what it shows instead, when it is out of
// date, and which files refresh it. Serving it is up to others.

// Pages is how the units stand that a page comes from: one service or folder behind a relay, and all that it builds on.
type Pages struct {
	Ready  bool  // the unit answers
	Moving bool  // something is on its way: a page waits
	Broken *Unit // the first unit that has failed or crashed; nil: none. A page says so
	Stale  *Unit // the first unit that is stale; nil: none
	// Generation changes whenever a unit has a new run or pass: pages of an earlier one are out of date.
	Generation string
}

// Pages returns how pages of a unit stand, as of the snapshot; false where there is no such unit. The plan is the one
// that the snapshot was made with.
func (s *Snapshot) Pages(p *plan.Plan, unit string) (Pages, bool) {
	u := s.Unit(unit)
	if u == nil {
		return Pages{}, false
	}
	pages := Pages{Ready: u.State == Ready || u.State == Done || u.State == Running && u.Run.Number > 1}
	for _, name := range p.Chain(unit) {
		of := s.Unit(name)
		if of == nil {
			continue
		}
		pages.Moving = pages.Moving || of.Moving || of.Freshness == Updating
		switch {
		case of.State.Broken() && pages.Broken == nil:
			pages.Broken = of
		case of.Freshness == Stale && pages.Stale == nil:
			pages.Stale = of
		}
		pages.Generation += fmt.Sprintf("%s %d.%d ", name, of.Run.Number, of.Pass.Number)
	}
	return pages, true
}

// refreshPages orders a refresh of the pages that files of a change are for, once for each relay.
func (e *Engine) refreshPages(ev Change) {
	mayRefresh := func(h Hit) bool {
		u := e.byName[h.Unit]
		return u != nil && (u.spec.Relay != nil || h.Reaction > 0)
	}
	if e.quitting || !slices.ContainsFunc(ev.Hits, mayRefresh) {
		return
	}
	orders := map[string]*Refresh{}
	for _, h := range ev.Hits {
		if !mayRefresh(h) {
			continue
		}
		u := e.byName[h.Unit]
		if h = u.byRulesInUse([]Hit{h})[0]; !u.spec.ForPages(h.Reaction) {
			continue
		}
		for _, name := range e.plan.RelaysOf(u.spec) {
			o := orders[name]
			if o == nil {
				o = &Refresh{Unit: name}
				orders[name] = o
			}
			o.Files = append(o.Files, h.Path)
			o.Reload = o.Reload || h.Reaction > 0 && u.spec.Reactions[h.Reaction-1].Do == plan.RefreshPage
		}
	}
	if len(orders) == 0 {
		return
	}
	for _, spec := range e.plan.Units {
		if o := orders[spec.Name]; o != nil {
			e.emit(*o)
		}
	}
}

// notForPages returns the hits that concern the unit itself.
func (u *unit) notForPages(hits []Hit) []Hit {
	if !slices.ContainsFunc(hits, func(h Hit) bool { return u.spec.ForPages(h.Reaction) }) {
		return hits
	}
	return slices.DeleteFunc(slices.Clone(hits), func(h Hit) bool { return u.spec.ForPages(h.Reaction) })
}

// missingLooks is how many looks in a row must have found something missing until a relay counts as failed: files are
// replaced, and are gone for a moment.
const missingLooks = 2

// misses counts looks in a row that found something of a relay missing. It reports false while nothing is, or that may
// be for a moment only, or a unit is on its way that may make it.
func (e *Engine) misses(u *unit, problem string) bool {
	if problem == "" || e.isBeingMade(u.spec.Relay) {
		u.run.misses = 0
		return false
	}
	u.run.misses++
	return u.run.misses >= missingLooks
}

// isBeingMade reports whether a unit is on its way that may make what a relay serves.
func (e *Engine) isBeingMade(relay *plan.Relay) bool {
	var behind []string
	for _, name := range relay.Backends() {
		behind = append(behind, e.plan.Chain(name)...)
	}
	return slices.ContainsFunc(e.units, func(u *unit) bool {
		return u.moving && (len(u.spec.Outputs) > 0 || slices.Contains(behind, u.spec.Name))
	})
}
