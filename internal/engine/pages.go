package engine

import (
	"fmt"
	"slices"

	"omnivigil/internal/plan"
)

// What browsers see of a project is decided here: when a page waits, what it shows instead, when it is outdated, and
// which files refresh it. Serving pages is up to others.

// Pages is the state of the units behind a page: a service or a directory, and everything that it needs and follows.
type Pages struct {
	Ready  bool  // the unit answers
	Moving bool  // a unit is moving: a page waits
	Broken *Unit // the first failed or crashed unit, which a page shows; nil: none
	Stale  *Unit // the first unit that is stale; nil: none
	// Generation changes whenever a unit has a new run or pass: pages of earlier ones are outdated.
	Generation string
}

// Pages returns the state of the units behind a unit's pages, at the time of the snapshot; false: there is no such
// unit. The plan is that of the snapshot.
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

// notForPages returns the hits that affect the unit itself.
func (u *unit) notForPages(hits []Hit) []Hit {
	if !slices.ContainsFunc(hits, func(h Hit) bool { return u.spec.ForPages(h.Reaction) }) {
		return hits
	}
	return slices.DeleteFunc(slices.Clone(hits), func(h Hit) bool { return u.spec.ForPages(h.Reaction) })
}

// missingLooks is how many checks in a row must have found something missing until a relay counts as failed: files
// are missing for a moment while they are replaced.
const missingLooks = 2

// misses counts checks in a row that found something of a relay missing. It returns false while nothing is missing,
// or perhaps only for a moment, or a unit is moving that may make it.
func (e *Engine) misses(u *unit, problem string) bool {
	if problem == "" || e.isBeingMade(u.spec.Relay) {
		u.run.misses = 0
		return false
	}
	u.run.misses++
	return u.run.misses >= missingLooks
}

// isBeingMade reports whether a unit is moving that may make what a relay serves.
func (e *Engine) isBeingMade(relay *plan.Relay) bool {
	var behind []string
	for _, name := range relay.Backends() {
		behind = append(behind, e.plan.Chain(name)...)
	}
	return slices.ContainsFunc(e.units, func(u *unit) bool {
		return u.moving && (len(u.spec.Outputs) > 0 || slices.Contains(behind, u.spec.Name))
	})
}
