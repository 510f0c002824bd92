package observation

import (
	"fmt"
	"net"
	"net/netip"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/plan"
	"omnivigil/internal/process/observe"
	"omnivigil/internal/session/impact"
	"omnivigil/internal/text/format"
	"omnivigil/internal/watch"
	"omnivigil/internal/watch/pattern"
)

// Observed is what was seen of one unit.
type Observed struct {
	Unit    string
	Run     int // the newest observed run; 0: none in this session
	Problem string
	Last    time.Time
	ReadyAt time.Time // of the newest run; zero: it is not ready
	Seen    observe.Seen
}

// comparison compares what units were seen to do with a plan. It is for one goroutine.
type comparison struct {
	plan      *plan.Plan
	explainer *watch.Explainer
	units     []*unitSeen // in the order of the plan
	settings  map[string]bool
	files     *projectFiles // read when a pattern has to be proposed
	addresses map[netip.Addr]bool
	shared    map[string]bool // see share
}

// unitSeen is one unit with what was seen of it, sorted out.
type unitSeen struct {
	Observed
	spec    *plan.Unit
	reads   []read
	writes  []write
	touched map[string]bool // files that exist and were read or looked at: what a rule may be for
	wrote   map[string]bool // everything that it has ever written
	watches map[string]bool // what it watches for changes by itself
}

// read is a file that a unit has read, and which it has not written itself.
type read struct {
	name    string
	at      time.Time
	rule    string // that covers it
	exempt  string // why no rule has to cover it
	from    []string
	follows bool // one of the units that make it
}

// covered reports whether a save of the file affects the unit, or need not.
func (r read) covered() bool { return r.rule != "" || r.exempt != "" }

// write is a file that a unit has written and that exists.
type write struct {
	name     string
	declared bool
	affects  []string
	readBy   []string
}

// Compare returns what units were seen to do, and how it differs from the plan. It reads directories and ignore files.
func Compare(p *plan.Plan, seen []Observed) api.Observations {
	c := newComparison(p, seen)
	for _, u := range c.units {
		c.sortOut(u)
	}
	for _, u := range c.units {
		for i := range u.writes {
			u.writes[i].readBy = c.readersOf(u, u.writes[i].name)
		}
	}
	all := api.Observations{Units: []api.Observation{}, Mismatches: []api.Mismatch{}}
	for _, u := range c.units {
		all.Units = append(all.Units, c.observation(u))
		all.Mismatches = append(all.Mismatches, c.mismatches(u)...)
	}
	return all
}

// Uncovered returns the files that a unit has read and none of its rules covers, in order. It reads ignore files.
func Uncovered(p *plan.Plan, seen []Observed, unit string) []string {
	return readsOf(p, seen, unit, func(r read) bool { return !r.covered() })
}

// observedInput is why a read need not be covered by a rule: see Inputs.
const observedInput = "counts as an input, because it is observed"

// Inputs are the files that count as inputs of a task, because it was seen to read them, it is always observed, and its
// result is reused. It reads ignore files.
func Inputs(p *plan.Plan, seen []Observed, unit string) []string {
	return readsOf(p, seen, unit, func(r read) bool { return r.exempt == observedInput })
}

// readsOf returns some of the files that a unit has read, in order.
func readsOf(p *plan.Plan, seen []Observed, unit string, which func(read) bool) []string {
	c := newComparison(p, seen)
	var files []string
	for _, u := range c.units {
		if u.Unit != unit {
			continue
		}
		c.sortOut(u)
		for _, r := range u.reads {
			if which(r) {
				files = append(files, r.name)
			}
		}
	}
	return files
}

// AddReaders adds to an impact which units were seen to read the path although no rule of theirs covers it. It reads
// ignore files.
func AddReaders(f *api.Impact, p *plan.Plan, seen []Observed) {
	c := newComparison(p, seen)
	for _, u := range c.units {
		at := slices.IndexFunc(u.Seen.Paths, func(p observe.Path) bool { return p.Name == f.Path })
		if at < 0 || u.wrote[f.Path] || !u.Seen.Paths[at].Access.Has(observe.Read) {
			continue
		}
		if r := c.readOf(u, u.Seen.Paths[at]); !r.covered() {
			f.Reads = append(f.Reads, api.Reader{Unit: u.Unit, At: r.at})
			f.Text = append(f.Text, fmt.Sprintf("  %s read it at %s, but no rule covers it", u.Unit,
				format.Moment(r.at, time.Now())))
		}
	}
}

func newComparison(p *plan.Plan, seen []Observed) *comparison {
	c := &comparison{
		plan:      p,
		explainer: watch.NewExplainer(p.Root, impact.Interests(p)),
		settings:  map[string]bool{},
		shared:    map[string]bool{},
	}
	for _, file := range impact.SettingsFiles(p) {
		c.settings[filepath.ToSlash(filepath.Clean(file))] = true
	}
	for _, spec := range p.Units {
		i := slices.IndexFunc(seen, func(o Observed) bool { return o.Unit == spec.Name })
		if i >= 0 && spec.Relay == nil {
			c.units = append(c.units, newUnitSeen(seen[i], spec))
		}
	}
	return c
}

func newUnitSeen(o Observed, spec *plan.Unit) *unitSeen {
	u := &unitSeen{
		Observed: o, spec: spec, touched: map[string]bool{}, wrote: map[string]bool{}, watches: map[string]bool{},
	}
	for _, p := range o.Seen.Paths {
		if p.Access.Any(observe.Written | observe.Created | observe.Removed) {
			u.wrote[p.Name] = true
		}
		if p.Access.Any(observe.Read | observe.Looked | observe.Listed) {
			u.touched[p.Name] = true
		}
		if p.Access.Any(observe.Watched) {
			u.watches[p.Name] = true
		}
	}
	return u
}

// sortOut determines what covers the files that a unit has read, and what the files that it has written affect.
func (c *comparison) sortOut(u *unitSeen) {
	for _, p := range u.Seen.Paths {
		switch {
		case p.Access.Has(observe.Read) && !u.wrote[p.Name]:
			u.reads = append(u.reads, c.readOf(u, p))
		case p.Access.Any(observe.Written | observe.Created):
			if info, err := os.Lstat(c.path(p.Name)); err == nil && info.Mode().IsRegular() {
				u.writes = append(u.writes, c.writeOf(u, p))
			}
		}
	}
}

func (c *comparison) path(name string) string {
	return filepath.Join(c.plan.Root, filepath.FromSlash(name))
}

// readOf determines what covers a file that a unit has read.
func (c *comparison) readOf(u *unitSeen, p observe.Path) read {
	r := read{name: p.Name, at: p.Since}
	if r.exempt = c.exemption(u, p.Name); r.exempt != "" {
		return r
	}
	r.from = c.writersOf(u, p.Name)
	excluded := c.explainer.Excluded(p.Name)
	if excluded != "" && len(r.from) == 0 && !u.spec.Unignored {
		r.exempt = "version control ignores it"
		return r
	}
	for _, a := range c.explainer.Explain(p.Name) {
		if a.Key != u.Unit {
			continue
		}
		switch {
		case a.Ignored != "":
			r.exempt = "ignored by " + a.Ignored
		case a.Hears || a.Rule >= 0 && excluded == "":
			r.rule = a.Pattern // also of a reaction that does nothing
		case a.Noise:
			r.exempt = "such files never count"
		}
	}
	if by := c.followed(u.spec, r.from); !r.covered() && by != "" {
		r.exempt, r.follows = "follows "+by, true
	}
	if !r.covered() && u.spec.Reuse && u.spec.Observe && len(r.from) == 0 {
		r.exempt = observedInput
	}
	return r
}

// exemption returns why a file need not be covered by a rule, whatever the rules say; empty: it should be.
func (c *comparison) exemption(u *unitSeen, name string) string {
	switch {
	case c.settings[name]:
		return "the settings"
	case isOwn(name):
		return "belongs to version control"
	case isCache(name):
		return "a cache"
	// of one with passes, the rules tell what it takes up
	case u.spec.Pass == nil && (u.watches[name] || u.watches[path.Dir(name)]):
		return "watched by the unit itself"
	}
	for _, step := range u.spec.Setup {
		for _, made := range step.Outputs {
			if pattern.Matches(c.plan.Root, made.Text, name) {
				return "made by its setup"
			}
		}
	}
	return ""
}

// caches are directories of files that a tool makes for itself.
var caches = []string{
	"__pycache__", ".cache", ".pytest_cache", ".mypy_cache", ".ruff_cache", ".gradle", ".parcel-cache",
}

func isCache(name string) bool {
	return slices.ContainsFunc(strings.Split(path.Dir(name), "/"), func(element string) bool {
		return slices.Contains(caches, element)
	})
}

// isOwn reports whether a file belongs to version control. Many tools read its ignore files as this program does.
func isOwn(name string) bool {
	base := path.Base(name)
	return base == ".gitignore" || base == ".gitattributes" || base == ".gitmodules"
}

// writersOf returns the other units that make a file: that declare it as an output, or were seen to write it. Units
// that write the same files in a directory that version control ignores use it together, as the commands of one build
// tool do; only what is declared is an output then.
func (c *comparison) writersOf(u *unitSeen, name string) []string {
	makers := impact.Makers(c.plan, name)
	for _, other := range c.units {
		if other.wrote[name] && !c.share(u, other, c.ignoredTop(name)) {
			makers = append(makers, other.Unit)
		}
	}
	makers = slices.DeleteFunc(makers, func(m string) bool { return m == u.Unit })
	slices.Sort(makers)
	return slices.Compact(makers)
}

// share reports whether two units have written the same file in an ignored directory.
func (c *comparison) share(a, b *unitSeen, top string) bool {
	if top == "" {
		return false
	}
	key := a.Unit + "\x00" + b.Unit + "\x00" + top
	shared, known := c.shared[key]
	if !known {
		for name := range a.wrote {
			shared = shared || b.wrote[name] && strings.HasPrefix(name, top+"/")
		}
		c.shared[key] = shared
	}
	return shared
}

// ignoredTop returns the uppermost directory above a file that version control ignores; empty:
// there is none.
func (c *comparison) ignoredTop(name string) string {
	for at := range len(name) {
		if name[at] == '/' && c.explainer.Excluded(name[:at]) != "" {
			return name[:at]
		}
	}
	return ""
}

// followed returns which of the makers a unit follows, directly or through others; empty: none of them.
func (c *comparison) followed(u *plan.Unit, makers []string) string {
	return c.leadsTo(u, makers, func(u *plan.Unit) []string { return u.Follows })
}

// leadsTo returns the first of some units that another one leads to.
func (c *comparison) leadsTo(u *plan.Unit, to []string, next func(*plan.Unit) []string) string {
	done := map[string]bool{}
	var search func(u *plan.Unit) string
	search = func(u *plan.Unit) string {
		if u == nil || done[u.Name] {
			return ""
		}
		done[u.Name] = true
		for _, name := range next(u) {
			if slices.Contains(to, name) {
				return name
			}
			if found := search(c.plan.Unit(name)); found != "" {
				return found
			}
		}
		return ""
	}
	return search(u)
}

// writeOf determines what a file that a unit has written affects.
func (c *comparison) writeOf(u *unitSeen, p observe.Path) write {
	w := write{name: p.Name, declared: slices.Contains(impact.Makers(c.plan, p.Name), u.Unit)}
	for _, a := range c.explainer.Explain(p.Name) {
		if a.Hears && c.plan.Unit(a.Key) != nil {
			w.affects = append(w.affects, a.Key)
		}
	}
	return w
}

// readersOf returns the other units that were seen to read a file and that act on it.
func (c *comparison) readersOf(u *unitSeen, name string) []string {
	var readers []string
	for _, other := range c.units {
		if other == u || other.wrote[name] {
			continue
		}
		if slices.ContainsFunc(other.reads, func(r read) bool {
			return r.name == name && (r.follows || !r.covered())
		}) {
			readers = append(readers, other.Unit)
		}
	}
	return readers
}

// listenerAt returns the unit that listens at an address: that was seen to, or whose settings name the address.
func (c *comparison) listenerAt(a observe.Address) string {
	for _, u := range c.units {
		if slices.ContainsFunc(u.Seen.Listens, func(l observe.Address) bool { return c.reaches(a, l) }) {
			return u.Unit
		}
	}
	for _, u := range c.plan.Units {
		for _, at := range u.Ports() {
			if c.reaches(a, observe.Address{IP: at}) {
				return u.Name
			}
		}
	}
	return ""
}

// reaches reports whether a connection to an address ends where one of this machine's listens.
func (c *comparison) reaches(to, at observe.Address) bool {
	if to.Path != "" || at.Path != "" {
		return to.Path == at.Path
	}
	local := func(ip netip.Addr) bool { return ip.IsLoopback() || ip.IsUnspecified() }
	of, ours := to.IP.Addr(), at.IP.Addr()
	return to.IP.Port() == at.IP.Port() &&
		(of == ours || local(of) && local(ours) || ours.IsUnspecified() && c.own()[of])
}

// own are the addresses of this machine.
func (c *comparison) own() map[netip.Addr]bool {
	if c.addresses == nil {
		c.addresses = map[netip.Addr]bool{}
		all, _ := net.InterfaceAddrs() // without them, only those for all interfaces are unknown
		for _, a := range all {
			if network, is := a.(*net.IPNet); is {
				ip, _ := netip.AddrFromSlice(network.IP)
				c.addresses[ip.Unmap()] = true
			}
		}
	}
	return c.addresses
}

// observation returns what was seen of a unit, for faces.
func (c *comparison) observation(u *unitSeen) api.Observation {
	o := api.Observation{Unit: u.Unit, Run: u.Run, Problem: u.problem(), Last: u.Last}
	for _, r := range u.reads {
		o.Reads = append(o.Reads, api.ObservedRead{Path: r.name, At: r.at, Rule: r.rule, Exempt: r.exempt})
	}
	for _, w := range u.writes {
		o.Writes = append(o.Writes, api.ObservedWrite{
			Path: w.name, Declared: w.declared, Affects: w.affects, ReadBy: w.readBy,
		})
	}
	var ignored []string // of the missing ones: they say less, and come last
	for _, p := range u.Seen.Paths {
		if p.Access.Has(observe.Listed) {
			o.Lists = append(o.Lists, p.Name)
		}
		if p.Access.Has(observe.Missing) && !p.Access.Any(observe.Read|observe.Looked|observe.Written|observe.Created) {
			if c.explainer.Excluded(p.Name) == "" {
				o.Missing = append(o.Missing, p.Name)
			} else {
				ignored = append(ignored, p.Name)
			}
		}
		if p.Access.Has(observe.Removed) {
			o.Removes = append(o.Removes, p.Name)
		}
	}
	o.Missing = append(o.Missing, ignored...)
	for _, p := range u.Seen.Programs {
		path := p.Path
		if below, err := filepath.Rel(c.plan.Root, path); err == nil && filepath.IsLocal(below) {
			path = filepath.ToSlash(below)
		}
		o.Programs = append(o.Programs, api.ObservedProgram{Path: path, Args: p.Args})
	}
	for _, a := range u.Seen.Listens {
		o.Listens = append(o.Listens, a.String())
	}
	for _, a := range u.Seen.Connects {
		o.Connects = append(o.Connects, api.ObservedPeer{Address: a.String(), Unit: c.listenerAt(a)})
	}
	return o
}

// problem tells what of a unit could not be observed.
func (u *unitSeen) problem() string {
	var all []string
	if u.Problem != "" {
		all = append(all, u.Problem)
	}
	for _, p := range u.Seen.Programs {
		if p.Privileged {
			all = append(all, p.Path+" gains no privileges under observation (setuid)")
		}
	}
	if u.Seen.Unread > 0 {
		all = append(all, "the system forbids observing "+format.List(u.Seen.Blind))
	}
	if u.Seen.Over > 0 {
		all = append(all, format.Count(u.Seen.Over, "path")+" too many to record")
	}
	return strings.Join(all, "; ")
}

// some returns the first files, for a message.
func some(files []string) []string { return files[:min(len(files), someFiles)] }

const someFiles = 8
