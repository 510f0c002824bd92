// Package pattern matches paths against globs with captures: {name} is one path element, {name...} any number. A
// Matcher answers for all patterns of all interests at once. The package reads directories only to find files that
// match (Files, MatchAny). Start reading at Interest and Matcher.
package pattern

import (
	"cmp"
	"path"
	"slices"
	"strings"

	"github.com/bmatcuk/doublestar/v4"
)

// Matcher answers for all patterns of all interests at once. The elements of the patterns form one tree of nodes, in
// which common beginnings are shared, so that the cost of a question grows with the path and the answer, not with the
// number of interests.
type Matcher struct {
	Interests []Compiled
	ByKey     map[string]int // the index of each interest
	top       *node
	Polls     bool // some interest is polled
}

// Compiled is an Interest with its patterns compiled.
type Compiled struct {
	Interest
	RulePatterns   []Pattern
	IgnorePatterns []Pattern
	covers         map[int]bool // the numbers of its ignore patterns
}

// node is a position in the patterns that begin alike.
type node struct {
	literal   map[string]*node
	suffix    map[string]*node // elements like "*.go", by ".go"
	one       *node            // "*"
	any       *node            // "**"
	globs     []globEdge       // elements of any other kind
	star      bool             // it follows "**": every further element leads back to it
	accepts   []Match          // rules that match a path that ends here
	covers    []int            // the numbers of the ignore patterns that match it
	reachable []int            // the interests that can match something below
}

type globEdge struct {
	glob string
	to   *node
}

type Match struct{ Interest, Rule int }

// Place is the position of a directory in all patterns.
type Place struct {
	nodes   []*node
	covered []int // the numbers of the ignore patterns that cover the directory and everything in it
}

func compileInterest(root string, in Interest) Compiled {
	c := Compiled{Interest: in, covers: map[int]bool{}}
	for _, r := range in.Rules {
		c.RulePatterns = append(c.RulePatterns, Compile(root, r.Pattern))
	}
	for _, p := range in.Ignore {
		c.IgnorePatterns = append(c.IgnorePatterns, Compile(root, strings.TrimSuffix(p, "/")))
	}
	return c
}

func NewMatcher(root string, interests []Interest) *Matcher {
	m := &Matcher{top: &node{}, ByKey: map[string]int{}}
	numbers := map[string]int{} // of ignore patterns, by text
	for i, in := range interests {
		c := compileInterest(root, in)
		m.Polls = m.Polls || in.Poll > 0
		for r, p := range c.RulePatterns {
			for _, branch := range p.Branches {
				end := m.top.grow(branch)
				end.accepts = append(end.accepts, Match{i, r})
			}
		}
		for _, p := range c.IgnorePatterns {
			number, known := numbers[p.Absolute]
			if !known {
				number = len(numbers)
				numbers[p.Absolute] = number
				for _, branch := range p.Branches {
					end := m.top.grow(branch)
					end.covers = append(end.covers, number)
				}
			}
			c.covers[number] = true
		}
		m.ByKey[in.Key] = i
		m.Interests = append(m.Interests, c)
	}
	m.top.markReachable(m)
	return m
}

// grow returns the node at the end of the elements, and creates missing ones.
func (n *node) grow(elements []string) *node {
	for _, element := range elements {
		n = n.edge(element)
	}
	return n
}

func (n *node) edge(element string) *node {
	through := func(edges *map[string]*node, key string) *node {
		if *edges == nil {
			*edges = map[string]*node{}
		}
		if (*edges)[key] == nil {
			(*edges)[key] = &node{}
		}
		return (*edges)[key]
	}
	switch {
	case element == "**":
		if n.any == nil {
			n.any = &node{star: true}
		}
		return n.any
	case element == "*":
		if n.one == nil {
			n.one = &node{}
		}
		return n.one
	case !hasMeta(element):
		return through(&n.literal, unescape(element))
	case strings.HasPrefix(element, "*.") && !hasMeta(element[1:]):
		return through(&n.suffix, unescape(element[1:]))
	}
	for _, e := range n.globs {
		if e.glob == element {
			return e.to
		}
	}
	to := &node{}
	n.globs = append(n.globs, globEdge{element, to})
	return to
}

// markReachable records at each node which interests can match below, and returns those that can match there or
// below.
func (n *node) markReachable(m *Matcher) map[int]bool {
	below, here := map[int]bool{}, map[int]bool{}
	n.each(func(to *node) {
		for i := range to.markReachable(m) {
			below[i] = true
		}
	})
	for _, a := range n.accepts {
		if !m.Interests[a.Interest].Rules[a.Rule].Out {
			here[a.Interest] = true
		}
	}
	for i := range here {
		if n.star {
			below[i] = true
		}
	}
	for i := range below {
		here[i] = true
		n.reachable = append(n.reachable, i)
	}
	slices.Sort(n.reachable)
	return here
}

func (n *node) each(do func(*node)) {
	for _, to := range n.literal {
		do(to)
	}
	for _, to := range n.suffix {
		do(to)
	}
	for _, e := range n.globs {
		do(e.to)
	}
	for _, to := range []*node{n.one, n.any} {
		if to != nil {
			do(to)
		}
	}
}

// reach adds the node, and those that "**" reaches from it without an element.
func reach(nodes []*node, n *node) []*node {
	for ; n != nil && !slices.Contains(nodes, n); n = n.any {
		nodes = append(nodes, n)
	}
	return nodes
}

// step returns the nodes after one more element.
func step(nodes []*node, name string) []*node {
	var next []*node
	for _, n := range nodes {
		if n.star {
			next = reach(next, n)
		}
		next = reach(next, n.literal[name])
		next = reach(next, n.one)
		for i := 0; i < len(name) && n.suffix != nil; i++ {
			if name[i] == '.' {
				next = reach(next, n.suffix[name[i:]])
			}
		}
		for _, e := range n.globs {
			if ok, _ := doublestar.Match(e.glob, name); ok {
				next = reach(next, e.to)
			}
		}
	}
	return next
}

// At returns the place of a directory with an absolute path.
func (m *Matcher) At(dir string) Place {
	p := Place{nodes: reach(nil, m.top)}
	for _, element := range elements(dir) {
		p = p.Enter(element)
	}
	return p
}

// Enter returns the place of a directory in this one.
func (p Place) Enter(name string) Place {
	next := Place{nodes: step(p.nodes, name), covered: p.covered}
	for _, n := range next.nodes {
		if len(n.covers) > 0 {
			next.covered = append(slices.Clip(next.covered), n.covers...)
		}
	}
	return next
}

// EachReachable calls do for each interest that something in the directory could affect, until do returns false. Out:
// version control ignores the directory.
func (m *Matcher) EachReachable(p Place, out bool, do func(*Compiled) bool) {
	for _, n := range p.nodes {
		for _, i := range n.reachable {
			if in := &m.Interests[i]; in.takes(p.covered, out) && !do(in) {
				return
			}
		}
	}
}

// Wants reports whether something in the directory could affect an interest that is not spare.
func (m *Matcher) Wants(p Place, out bool) bool { return m.WantsAs(p, out, false) }

// WantsAs reports whether something in the directory could affect an interest that is spare, or one that is not.
func (m *Matcher) WantsAs(p Place, out, spare bool) bool {
	wanted := false
	m.EachReachable(p, out, func(in *Compiled) bool {
		wanted = in.Spare == spare
		return !wanted
	})
	return wanted
}

// takes reports whether the interest includes what these ignore patterns cover and, with out, what version control
// ignores.
func (in *Compiled) takes(covered []int, out bool) bool {
	if out && !in.Unignored {
		return false
	}
	for _, number := range covered {
		if in.covers[number] {
			return false
		}
	}
	return true
}

// Hears returns, for each interest that a file in the directory affects, the first matching rule, in the order of the
// interests.
func (m *Matcher) Hears(p Place, name string, out bool) []Match {
	file := p.Enter(name)
	var found []Match
	for _, n := range file.nodes {
		found = append(found, n.accepts...)
	}
	slices.SortFunc(found, func(a, b Match) int {
		return cmp.Or(cmp.Compare(a.Interest, b.Interest), cmp.Compare(a.Rule, b.Rule))
	})
	found = slices.CompactFunc(found, func(a, b Match) bool { return a.Interest == b.Interest })
	found = slices.DeleteFunc(found, func(a Match) bool {
		in := &m.Interests[a.Interest]
		return in.Rules[a.Rule].Out || !in.takes(file.covered, out)
	})
	if len(found) > 1 {
		found = slices.DeleteFunc(found, func(a Match) bool { return m.Interests[a.Interest].Spare })
	}
	return found
}

// elements returns the elements of an absolute path.
func elements(p string) []string {
	if p = strings.Trim(path.Clean(p), "/"); p != "" {
		return strings.Split(p, "/")
	}
	return nil
}

// Count records which rules match a file of the directory at a place, and reports whether it affects any interest.
// Out: version control ignores the file.
func (m *Matcher) Count(at Place, name string, out bool, matched map[Match]bool) bool {
	if IsNoise(name) {
		return false
	}
	file := at.Enter(name)
	for _, n := range file.nodes {
		for _, a := range n.accepts {
			if m.Interests[a.Interest].takes(file.covered, out) {
				matched[a] = true
			}
		}
	}
	return len(m.Hears(at, name, out)) > 0
}
