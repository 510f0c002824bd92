package lanes

import (
	"cmp"
	"fmt"
	"slices"
	"sort"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
)

// This file decides which units have lanes, and in which order.

// order is how lanes are ordered.
type order int

const (
	byFile    order = iota // as in the settings file; if not all have room, broken and moving ones first
	byNeed                 // a unit below those that it needs or follows
	byTrouble              // broken, moving, stale, others
)

var OrderNames = [...]string{"file", "need", "trouble"}

// NextOrder sorts the lanes by the next order.
func (l *Lanes) NextOrder(m *view.Model) {
	l.use(m, (l.order+1)%order(len(OrderNames)))
}

func (l *Lanes) use(m *view.Model, o order) {
	l.order = o
	m.Said = "lanes ordered by " + OrderNames[l.order]
}

// OrderBy sorts the lanes by the order of a name.
func (l *Lanes) OrderBy(m *view.Model, args []string) error {
	i := slices.Index(OrderNames[:], strings.Join(args, " "))
	if i < 0 {
		return fmt.Errorf("lanes are ordered by file, need or trouble, not %q", strings.Join(args, " "))
	}
	l.use(m, order(i))
	return nil
}

// Matches reports whether a unit matches all words of a filter: each is a part of its name, the beginning of its kind,
// its state or its freshness, the name of one of its groups, or @ and the name of one of the user's selections.
func Matches(m *view.Model, u *api.Unit, filter string) bool {
	for _, word := range strings.Fields(strings.ToLower(filter)) {
		if name, selection := strings.CutPrefix(word, "@"); selection {
			if !inSelection(m, u, name) {
				return false
			}
			continue
		}
		begins := func(text string) bool { return strings.HasPrefix(text, word) }
		grouped := slices.Contains(m.Snap.Project.Groups[word], u.Name)
		if !strings.Contains(strings.ToLower(u.Name), word) && !begins(u.Kind) && !begins(string(u.State)) &&
			!begins(StateWord(u)) &&
			!begins(string(u.Freshness)) &&
			!grouped {
			return false
		}
	}
	return true
}

// inSelection reports whether a unit, or one of its groups, is in a selection of the user.
func inSelection(m *view.Model, u *api.Unit, name string) bool {
	return slices.ContainsFunc(m.Selections[name], func(one string) bool {
		return one == u.Name || slices.Contains(m.Snap.Project.Groups[one], u.Name)
	})
}

// rank is the urgency of a unit; the smallest comes first.
func rank(u *api.Unit) int {
	switch {
	case u.State.Broken():
		return 0
	case u.Moving:
		return 1
	case u.Freshness == api.Stale:
		return 2
	}
	return 3
}

// ordered returns the units that match the filter, in the order in which the cursor moves.
func (l *Lanes) ordered(m *view.Model, room int) []*api.Unit {
	var units []*api.Unit
	for _, u := range m.Snap.Units {
		if Matches(m, u, m.Filter) {
			units = append(units, u)
		}
	}
	switch {
	case l.order == byNeed:
		depth := depths(m.Snap)
		slices.SortStableFunc(units, func(a, b *api.Unit) int { return cmp.Compare(depth[a.Name], depth[b.Name]) })
	case l.order == byTrouble, len(units) > room && !l.unfolded:
		sort.SliceStable(units, func(i, j int) bool { return rank(units[i]) < rank(units[j]) })
	}
	return units
}

// depths are the lengths of the longest chains of needs and follows below each unit.
func depths(snap *api.Snapshot) map[string]int {
	depth := map[string]int{}
	for range snap.Units {
		moved := false
		for _, u := range snap.Units {
			for _, on := range slices.Concat(u.Needs, u.Follows) {
				if d := depth[on] + 1; d > depth[u.Name] && d < len(snap.Units) {
					depth[u.Name], moved = d, true
				}
			}
		}
		if !moved {
			break
		}
	}
	return depth
}

// Visible returns the units with a row of their own, as last drawn.
func (l *Lanes) Visible(m *view.Model) []*api.Unit {
	units, _ := l.visibleIn(m, l.room)
	return units
}

// visibleIn returns the units that get one of the available rows, the selected one among them, and how many get none.
// Unfolded, the lanes are a window that follows the selection.
func (l *Lanes) visibleIn(m *view.Model, room int) ([]*api.Unit, int) {
	units := l.ordered(m, room)
	if m.Filter != "" {
		room-- // for the row that shows the filter
	}
	if len(units) <= room {
		return units, 0
	}
	keep := max(room-l.foldedRows(m, room), 1)
	if l.unfolded {
		at := slices.IndexFunc(units, func(u *api.Unit) bool { return u.Name == m.Selected })
		first := view.Windowed(max(at, 0), len(units), keep)
		return units[first : first+keep], len(units) - keep
	}
	shown := slices.Clone(units[:keep])
	for _, u := range units[keep:] {
		if u.Name == m.Selected && !shown[keep-1].State.Broken() { // what is broken comes first
			shown[keep-1] = u
		}
	}
	return shown, len(units) - keep
}

// foldedRows is how many rows folded units get: one or, if the project has members, one for each of these, but not more
// than a third of the room.
func (l *Lanes) foldedRows(m *view.Model, room int) int {
	if l.unfolded || m.Filter != "" {
		return 1
	}
	members := map[string]bool{}
	for _, u := range m.Snap.Units {
		members[u.Member()] = true
	}
	if len(members) > max(room/3, 1) {
		return 1
	}
	return len(members)
}

// foldedTexts tell how many units have no row; none: all have one.
func (l *Lanes) foldedTexts(m *view.Model, shown []*api.Unit, folded int) []string {
	switch {
	case m.Filter != "" && len(shown) == 0:
		return []string{fmt.Sprintf("no unit has %q in its name, kind, state or groups", m.Filter)}
	case m.Filter != "":
		return []string{fmt.Sprintf("%d more; those with %q are shown", len(m.Snap.Units)-len(shown), m.Filter)}
	case folded == 0:
		return nil
	case l.unfolded:
		return []string{fmt.Sprintf("%d more above and below; z folds the quiet ones", folded)}
	}
	units := slices.DeleteFunc(slices.Clone(m.Snap.Units), func(u *api.Unit) bool { return slices.Contains(shown, u) })
	if l.foldedRows(m, l.room) == 1 {
		return []string{fmt.Sprintf("%d more: %s", folded, foldedStates(units, ""))}
	}
	var texts []string
	for len(units) > 0 {
		member := units[0].Member()
		of := slices.DeleteFunc(slices.Clone(units), func(u *api.Unit) bool { return u.Member() != member })
		units = slices.DeleteFunc(units, func(u *api.Unit) bool { return u.Member() == member })
		where := ""
		if member != "" {
			where = " in " + member
		}
		texts = append(texts, fmt.Sprintf("%d more%s: %s", len(of), where, foldedStates(of, member)))
	}
	return texts
}

// foldedStates is a summary of folded units, and their names: "28 ready, 4 done   tides, berths, fares". Those of a
// member are short.
func foldedStates(units []*api.Unit, member string) string {
	counts := map[string]int{}
	var order, names []string
	for _, u := range units {
		word := StateWord(u)
		names = append(names, strings.TrimPrefix(u.Name, member+"/"))
		if counts[word]++; counts[word] == 1 {
			order = append(order, word)
		}
	}
	for i, word := range order {
		order[i] = fmt.Sprintf("%d %s", counts[word], word)
	}
	return strings.Join(order, ", ") + "   " + strings.Join(names, ", ")
}
