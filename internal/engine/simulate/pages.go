package simulate

import (
	"fmt"
	"slices"
	"strings"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
)

// generation is the generation of a unit's pages, with the runs behind it.
type generation struct{ text, runs string }

// pages checks rule 15, about what browsers get: a page that neither waits nor shows trouble comes from units that
// have read everything written; pages are outdated whenever a unit that they come from has run again; no page waits
// at rest; and files that are only for pages refresh those, and set off no unit.
func (c *Checker) pages(snap *engine.Snapshot, ev engine.Event, orders []engine.Order) {
	for _, relay := range c.plan.Units {
		if relay.Relay == nil {
			continue
		}
		for _, name := range relay.Relay.Backends() {
			if pages, ok := snap.Pages(c.plan, name); ok {
				c.pagesOf(name, pages)
			}
		}
	}
	newest := 0
	if n := len(snap.Ripples); n > 0 {
		newest = snap.Ripples[n-1].ID
	}
	if change, ok := ev.(engine.Change); ok && !c.quitting && !c.world.doubled {
		c.refreshes(change, orders)
		if newest > c.ripple && !slices.ContainsFunc(change.Hits, c.concernsUnit) {
			c.broke(15, "files that are for pages alone open ripple %d", newest)
		}
	}
	c.ripple = newest
}

// concernsUnit reports whether a hit is for more than pages.
func (c *Checker) concernsUnit(h engine.Hit) bool {
	b := c.units[h.Unit]
	return b == nil || !b.forPages(h) // a unit that was removed from the settings may still be ending
}

func (c *Checker) pagesOf(name string, pages engine.Pages) {
	runs := ""
	for _, from := range slices.Sorted(slices.Values(c.behind(name, map[string]bool{}))) {
		b := c.units[from]
		if b == nil {
			continue
		}
		runs += fmt.Sprintf("%s %d ", from, b.newest)
		if pages.Ready && !pages.Moving && pages.Broken == nil && pages.Stale == nil && b.wanted {
			if why := c.outdated(from); why != "" {
				c.broke(15, "pages of %s are let through, but %s", name, why)
			}
		}
	}
	if was, known := c.generations[name]; known && was.runs != runs && was.text == pages.Generation {
		c.broke(15, "pages of %s are not out of date although a unit behind them has run again", name)
	}
	if c.generations == nil {
		c.generations = map[string]generation{}
	}
	c.generations[name] = generation{pages.Generation, runs}
}

// behind are the units that pages of a unit come from, without suites.
func (c *Checker) behind(name string, seen map[string]bool) []string {
	u := c.plan.Unit(name)
	if u == nil || u.Kind == plan.Suite || seen[name] {
		return nil
	}
	seen[name] = true
	names := []string{name}
	for _, up := range slices.Concat(u.Needs, u.Follows) {
		names = append(names, c.behind(up, seen)...)
	}
	return names
}

// refreshes checks that each relay refreshes the files that a change has for its pages.
func (c *Checker) refreshes(change engine.Change, orders []engine.Order) {
	want, got := map[string][]string{}, map[string][]string{}
	for _, h := range change.Hits {
		b := c.units[h.Unit]
		if b == nil || !b.forPages(h) {
			continue
		}
		for _, relay := range c.plan.Units {
			if relay.Relay == nil {
				continue
			}
			for _, name := range relay.Relay.Backends() {
				if relay.Name == h.Unit || slices.Contains(c.behind(name, map[string]bool{}), h.Unit) {
					want[relay.Name] = append(want[relay.Name], h.Path)
					break
				}
			}
		}
	}
	for _, o := range orders {
		if o, ok := o.(engine.Refresh); ok {
			got[o.Unit] = o.Files
		}
	}
	for name, files := range want {
		if strings.Join(files, " ") != strings.Join(got[name], " ") {
			c.broke(15, "pages of %s are refreshed for %q, not for %q", name, got[name], files)
		}
	}
	for name := range got {
		if want[name] == nil {
			c.broke(15, "pages of %s are refreshed for nothing", name)
		}
	}
}

// noPageWaits checks that no page waits when nothing more will happen by itself.
func (c *Checker) noPageWaits() {
	snap := c.world.Engine.Snapshot()
	for _, u := range c.plan.Units {
		if pages, ok := snap.Pages(c.plan, u.Name); ok && pages.Moving {
			c.broke(15, "pages of %s would wait forever", u.Name)
		}
	}
}

// forPages reports whether a hit is only for pages, by the settings in use: a reaction that an edit has changed since
// counts as the whole unit.
func (b *books) forPages(h engine.Hit) bool {
	if h.Reaction > 0 && (h.Reaction > len(b.spec.Reactions) || b.spec.Reactions[h.Reaction-1].When.Text != h.Rule) {
		h.Reaction = 0
	}
	return b.spec.ForPages(h.Reaction)
}
