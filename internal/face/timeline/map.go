package timeline

import (
	"cmp"
	"math"
	"slices"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/text/format"
)

// Map is a project's units and what they need and follow, from left to right: layers of boxes, and links between
// them. What a box needs or follows is to its left.
//
// The layout is layered after Sugiyama, Tagawa and Toda, "Methods for Visual Understanding of Hierarchical System
// Structures" (1981): longest paths determine the layers, averages of neighbors the order in each, and links that
// skip a layer pass through it at a position of their own.
type Map struct {
	Boxes  []Box
	Links  []Link
	Layers int
	Rows   int
	Tracks []int // the number of parallel vertical lines after each layer
}

// Box is a unit in its place, or several similar units that are folded.
type Box struct {
	Units      []*api.Unit
	Layer, Row int
}

// Name is the text of the box.
func (b Box) Name() string {
	if len(b.Units) == 1 {
		return b.Units[0].Name
	}
	return format.Count(len(b.Units), "unit")
}

// Has reports whether a unit is in the box.
func (b Box) Has(unit string) bool {
	return slices.ContainsFunc(b.Units, func(u *api.Unit) bool { return u.Name == unit })
}

// Link is a line between two boxes: To needs From, or follows it.
type Link struct {
	From, To int // indices in Boxes
	Follows  bool
	Steps    []Step // one for each gap between layers that it crosses, from left to right
}

// Step is a link's way through the gap after a layer: in at one row, along a track, out at another row.
type Step struct {
	Layer, Track int
	In, Out      int
}

// MapOptions select what is on the map.
type MapOptions struct {
	Only map[string]bool      // only these units; nil: all
	Rows int                  // fold similar units if more rows are needed; 0: never
	Keep func(*api.Unit) bool // units that are never folded
}

// MapOf returns the layout of a project.
func MapOf(snap *api.Snapshot, o MapOptions) Map {
	units := snap.Units
	if o.Only != nil {
		units = slices.DeleteFunc(slices.Clone(units), func(u *api.Unit) bool { return !o.Only[u.Name] })
	}
	m := layOut(boxesOf(units, false, o.Keep))
	if o.Rows > 0 && m.Rows > o.Rows {
		m = layOut(boxesOf(units, true, o.Keep))
	}
	return m
}

// boxesOf gives each unit its box; similar units share one, if folded.
func boxesOf(units []*api.Unit, folded bool, keep func(*api.Unit) bool) []Box {
	const worthwhile = 3
	alike := map[string][]*api.Unit{}
	key := func(u *api.Unit) string {
		if !folded || keep != nil && keep(u) {
			return u.Name
		}
		var needed []string
		for _, other := range units {
			if slices.Contains(other.Needs, u.Name) || slices.Contains(other.Follows, u.Name) {
				needed = append(needed, other.Name)
			}
		}
		return strings.Join(
			[]string{
				"",
				strings.Join(u.Needs, " "),
				strings.Join(u.Follows, " "),
				strings.Join(needed, " "),
				string(u.State),
				string(u.Freshness),
			},
			"\n",
		)
	}
	for _, u := range units {
		alike[key(u)] = append(alike[key(u)], u)
	}
	var boxes []Box
	for _, u := range units {
		switch of := alike[key(u)]; {
		case len(of) < worthwhile:
			boxes = append(boxes, Box{Units: []*api.Unit{u}})
		case of[0] == u:
			boxes = append(boxes, Box{Units: of})
		}
	}
	return boxes
}

// node is a position in a layer: a box, or a point that a link passes.
type node struct {
	box           int // -1: a link passes
	layer, row    int
	before, after []*node
}

// layout is a map that is being laid out.
type layout struct {
	Map
	layers [][]*node
	nodes  []*node   // of the boxes
	chains [][]*node // of the links
}

func layOut(boxes []Box) Map {
	l := &layout{Map: Map{Boxes: boxes}}
	l.link()
	l.layer()
	l.order()
	l.place()
	l.route()
	return l.Map
}

// link finds the links between boxes; a link that is both a need and a follow counts as a follow.
func (l *layout) link() {
	at := map[string]int{}
	for i, b := range l.Boxes {
		for _, u := range b.Units {
			at[u.Name] = i
		}
	}
	for to, b := range l.Boxes {
		u := b.Units[0]
		for _, name := range u.Follows {
			if from, ok := at[name]; ok {
				l.Links = append(l.Links, Link{From: from, To: to, Follows: true})
			}
		}
		for _, name := range u.Needs {
			if from, ok := at[name]; ok && !slices.Contains(u.Follows, name) {
				l.Links = append(l.Links, Link{From: from, To: to})
			}
		}
	}
	same := func(a, b Link) bool { return a.From == b.From && a.To == b.To }
	slices.SortStableFunc(
		l.Links,
		func(a, b Link) int { return cmp.Or(cmp.Compare(a.From, b.From), cmp.Compare(a.To, b.To)) },
	)
	l.Links = slices.CompactFunc(l.Links, same)
}

// layer puts each box to the right of everything that it is linked from. Settings have no cycles; if there were one,
// it would end somewhere.
func (l *layout) layer() {
	depth := make([]int, len(l.Boxes))
	for range l.Boxes {
		moved := false
		for _, k := range l.Links {
			if depth[k.To] <= depth[k.From] && depth[k.From] < len(l.Boxes) {
				depth[k.To], moved = depth[k.From]+1, true
			}
		}
		if !moved {
			break
		}
	}
	for i := range l.Boxes {
		l.Boxes[i].Layer = depth[i]
		n := &node{box: i, layer: depth[i]}
		l.nodes = append(l.nodes, n)
		l.put(n)
	}
	l.Layers = len(l.layers)
	l.Links = slices.DeleteFunc(l.Links, func(k Link) bool { return depth[k.To] <= depth[k.From] })
	for _, k := range l.Links {
		chain := []*node{l.nodes[k.From]}
		for layer := depth[k.From] + 1; layer < depth[k.To]; layer++ {
			n := &node{box: -1, layer: layer}
			l.put(n)
			chain = append(chain, n)
		}
		chain = append(chain, l.nodes[k.To])
		for i := 1; i < len(chain); i++ {
			chain[i-1].after = append(chain[i-1].after, chain[i])
			chain[i].before = append(chain[i].before, chain[i-1])
		}
		l.chains = append(l.chains, chain)
	}
}

func (l *layout) put(n *node) {
	for len(l.layers) <= n.layer {
		l.layers = append(l.layers, nil)
	}
	n.row = len(l.layers[n.layer])
	l.layers[n.layer] = append(l.layers[n.layer], n)
}

// middle is the average row of nodes, or the own row if there are none.
func middle(of []*node, own int) float64 {
	if len(of) == 0 {
		return float64(own)
	}
	sum := 0
	for _, n := range of {
		sum += n.row
	}
	return float64(sum) / float64(len(of))
}

// sweeps is how often the order is improved in each direction.
const sweeps = 8

// order sorts each layer so that few links cross.
func (l *layout) order() {
	arrange := func(layer []*node, of func(*node) []*node) {
		slices.SortStableFunc(
			layer,
			func(a, b *node) int { return cmp.Compare(middle(of(a), a.row), middle(of(b), b.row)) },
		)
		for i, n := range layer {
			n.row = i
		}
	}
	for range sweeps {
		for _, layer := range l.layers {
			arrange(layer, func(n *node) []*node { return n.before })
		}
		for _, layer := range slices.Backward(l.layers) {
			arrange(layer, func(n *node) []*node { return n.after })
		}
	}
}

// place moves nodes, without changing their order, to the rows of their neighbors.
func (l *layout) place() {
	for range sweeps / 2 {
		for _, layer := range l.layers {
			settle(layer, func(n *node) float64 { return middle(n.before, n.row) })
		}
		for _, layer := range slices.Backward(l.layers) {
			settle(layer, func(n *node) float64 { return middle(n.after, n.row) })
		}
	}
	least, most := 0, 0
	for i, n := range slices.Concat(l.layers...) {
		if i == 0 {
			least, most = n.row, n.row
		}
		least, most = min(least, n.row), max(most, n.row)
	}
	for _, n := range slices.Concat(l.layers...) {
		if n.row -= least; n.box >= 0 {
			l.Boxes[n.box].Row = n.row
		}
	}
	if len(l.Boxes) > 0 {
		l.Rows = most - least + 1
	}
}

// settle gives the nodes of a layer rows that are as near as possible to the wanted ones, in order and without
// overlap: least squares, by pooling neighbors that want the same row.
func settle(layer []*node, wants func(*node) float64) {
	type pool struct {
		sum float64
		n   int
	}
	var pools []pool
	for i, n := range layer {
		pools = append(pools, pool{wants(n) - float64(i), 1})
		for k := len(pools) - 1; k > 0 && pools[k-1].sum/float64(pools[k-1].n) > pools[k].sum/float64(pools[k].n); k-- {
			pools[k-1] = pool{pools[k-1].sum + pools[k].sum, pools[k-1].n + pools[k].n}
			pools = pools[:k]
		}
	}
	i := 0
	for _, p := range pools {
		first := int(math.Round(p.sum / float64(p.n)))
		for range p.n {
			layer[i].row = first + i
			i++
		}
	}
}

// bus is all links that leave a node in one direction: one vertical line with branches.
type bus struct {
	from     *node
	follows  bool
	outs     []int // rows at which links branch off
	top, end int
	track    int
}

// route assigns the vertical lines of each gap to tracks.
func (l *layout) route() {
	l.Tracks = make([]int, max(l.Layers-1, 0))
	type key struct {
		from    *node
		follows bool
	}
	buses := map[key]*bus{}
	gaps := make([][]*bus, len(l.Tracks))
	for i, chain := range l.chains {
		for j := 1; j < len(chain); j++ {
			k := key{chain[j-1], l.Links[i].Follows}
			if buses[k] == nil {
				buses[k] = &bus{from: k.from, follows: k.follows, top: k.from.row, end: k.from.row}
				gaps[k.from.layer] = append(gaps[k.from.layer], buses[k])
			}
			b, out := buses[k], chain[j].row
			b.outs, b.top, b.end = append(b.outs, out), min(b.top, out), max(b.end, out)
		}
	}
	for gap, all := range gaps {
		l.Tracks[gap] = assign(all)
	}
	for i, chain := range l.chains {
		for j := 1; j < len(chain); j++ {
			in, out := chain[j-1], chain[j]
			b := buses[key{in, l.Links[i].Follows}]
			l.Links[i].Steps = append(l.Links[i].Steps, Step{in.layer, b.track, in.row, out.row})
		}
	}
}

// assign gives each bus that is not straight a track, and returns the number of tracks. A bus that starts in a row is
// left of those that end in that row, so that no two overlap; apart from that, few cross.
func assign(all []*bus) int {
	var open []*bus
	for _, b := range all {
		if b.top != b.end {
			open = append(open, b)
		}
	}
	rank := func(b *bus) int { // downwards the lower ones come first, upwards the upper ones
		if b.end > b.from.row {
			return -b.from.row
		}
		return b.from.row - 1<<20
	}
	slices.SortStableFunc(open, func(a, b *bus) int { return cmp.Compare(rank(a), rank(b)) })
	track := 0
	for ; len(open) > 0; track++ {
		at := slices.IndexFunc(open, func(b *bus) bool {
			return !slices.ContainsFunc(
				open,
				func(o *bus) bool { return o != b && o.from != b.from && slices.Contains(b.outs, o.from.row) },
			)
		})
		at = max(at, 0)
		open[at].track = track
		open = slices.Delete(open, at, at+1)
	}
	return track
}

// Linked returns the indices of the boxes that a box is linked from, and of those that it is linked to.
func (m *Map) Linked(box int) (before, after []int) {
	for _, k := range m.Links {
		if k.To == box {
			before = append(before, k.From)
		}
		if k.From == box {
			after = append(after, k.To)
		}
	}
	return before, after
}

// Around returns the names of a unit, of everything that it needs or follows, and of everything that needs or follows
// it, over any number of links.
func Around(snap *api.Snapshot, unit string) map[string]bool {
	around := map[string]bool{unit: true}
	walk := func(next func(u *api.Unit) []string) {
		open := []string{unit}
		for len(open) > 0 {
			u := snap.Unit(open[0])
			open = open[1:]
			if u == nil {
				continue
			}
			for _, name := range next(u) {
				if !around[name] {
					around[name] = true
					open = append(open, name)
				}
			}
		}
	}
	walk(func(u *api.Unit) []string { return slices.Concat(u.Needs, u.Follows) })
	walk(func(u *api.Unit) []string { return dependants(snap, u.Name, true) })
	return around
}

// dependants are the units that follow a unit or need it.
func dependants(snap *api.Snapshot, unit string, needing bool) []string {
	var names []string
	for _, u := range snap.Units {
		if slices.Contains(u.Follows, unit) || needing && slices.Contains(u.Needs, unit) {
			names = append(names, u.Name)
		}
	}
	return names
}

// IfRestarted returns what would act, in order, if a unit were restarted or rerun and everything went well: the unit,
// then everything that follows it. Paused units and those that are not enabled do not act; units that only need it
// keep running.
func IfRestarted(snap *api.Snapshot, unit string) []api.Step {
	u := snap.Unit(unit)
	if u == nil {
		return nil
	}
	steps := []api.Step{{Unit: unit, Does: verb(u), Because: "request"}}
	acts := map[string]bool{unit: true}
	m := layOut(boxesOf(snap.Units, false, nil))
	slices.SortStableFunc(m.Boxes, func(a, b Box) int { return cmp.Compare(a.Layer, b.Layer) })
	for _, b := range m.Boxes {
		u := b.Units[0]
		i := slices.IndexFunc(u.Follows, func(name string) bool { return acts[name] })
		if i < 0 || acts[u.Name] || u.Paused || !u.Wanted {
			continue
		}
		acts[u.Name] = true
		steps = append(steps, api.Step{Unit: u.Name, Does: verb(u), Because: "it follows " + u.Follows[i]})
	}
	return steps
}

// verb is what a unit does again.
func verb(u *api.Unit) string {
	if u.Kind == "service" || u.Kind == "relay" {
		return "restarts"
	}
	return "reruns"
}
