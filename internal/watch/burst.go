package watch

import (
	"maps"
	"slices"
	"strings"
	"time"
)

// Event is what a Watcher reports: a Touched, a Change, an Unchanged, a Notice or a Watching.
type Event interface{ event() }

// Touched reports at once that files of these interests are being written. After the debounce a Change, or an
// Unchanged, with the same burst and key follows for each.
type Touched struct {
	Burst int
	Keys  []string
	// Written holds, for each of Keys, the newest change time of the touched files; zero if none is known.
	Written []time.Time
}

// Change is a burst of writes that has settled, for the interests whose debounce has passed.
type Change struct {
	Burst int
	Since time.Time
	Hits  []Hit
	Files int // the number of files; about right if not all are listed
}

// Unchanged takes a Touched back for these interests: the files are what they were before. Hits are the files; What
// is empty for a file that was created and removed.
type Unchanged struct {
	Burst int
	Keys  []string
	Hits  []Hit
}

// Notice is a message to the user about the watching itself.
type Notice struct{ Text string }

// Hit is one path that affects one interest.
type Hit struct {
	Key      string
	Path     string // relative to the root, with forward slashes
	What     string // created, written, removed
	Rule     int    // the index of the rule that matched
	Pattern  string // its pattern
	Captures map[string]string
	// More is how many further files of this interest are not listed that the same rule matched with the same
	// captures.
	More int
	// Mixed: More counts files of different rules and captures.
	Mixed bool
}

// A change can be of any size, but users read only a few names: for each interest so many hits are listed, and one
// more for each other pair of rule and captures.
const (
	maxListed  = 300
	maxClasses = 200
)

// Watching reports that the interests given to SetInterests with this number are being watched.
type Watching struct{ Number int }

// CaughtUp answers CatchUp: what was written before that call has been reported as Touched, as far as it affects any
// interest.
type CaughtUp struct{ Number int }

func (CaughtUp) event()  {}
func (Touched) event()   {}
func (Watching) event()  {}
func (Change) event()    {}
func (Unchanged) event() {}
func (Notice) event()    {}

// ceilingFactor limits how long files that never settle can delay a change: so many debounces, and at least
// minCeiling.
const (
	ceilingFactor = 10
	minCeiling    = 2 * time.Second
)

// writingPause is how long a file that its writer has not closed must be quiet, if the debounce is shorter.
const writingPause = 25 * time.Millisecond

// sighting is what happened to a file, and which interests it affects.
type sighting struct {
	path, what string
	writing    bool  // the writer has not closed the file
	at         int64 // its change time, in nanoseconds since 1970; 0: unknown
	by         []heard
}

// heard is an interest that a file affects, and the rule that matched.
type heard struct {
	key      string
	rule     int
	pattern  string
	captures map[string]string
}

// group collects the hits of one interest until the files have settled.
type group struct {
	key      string
	burst    int
	since    time.Time
	last     time.Time
	counted  time.Time // the start of the ceiling
	debounce time.Duration
	hits     []met         // in the order in which the paths were seen
	at       map[int32]int // the index of each path in hits
	classes  []Hit         // one hit for each class
	numbers  map[class]int // of the classes
	writing  map[string]bool
	call     int   // the last call of bursts.add that added to it
	newest   int64 // the newest change time in that call
}

// class is what hits with the same consequences have in common.
type class struct {
	rule     int
	captures string
}

// met is a hit in compact form: there may be a million of them.
type met struct {
	path  int32 // the index of its path in bursts
	class int32
	what  what
}

// what is Hit.What in compact form.
type what uint8

const (
	nothing what = iota // created and removed
	created
	written
	removed
)

func whatOf(text string) what {
	return what(slices.Index(whatNames, text))
}

var whatNames = []string{"", "created", "written", "removed"}

func newGroup(key string, burst int, now time.Time, debounce time.Duration) *group {
	return &group{key: key, burst: burst, since: now, counted: now, debounce: debounce,
		at: map[int32]int{}, numbers: map[class]int{}, writing: map[string]bool{}}
}

func (g *group) due() time.Time {
	debounce := g.debounce
	if len(g.writing) > 0 {
		debounce = max(debounce, writingPause)
	}
	due, ceiling := g.last.Add(debounce), g.counted.Add(max(ceilingFactor*g.debounce, minCeiling))
	if due.After(ceiling) {
		return ceiling
	}
	return due
}

// bursts groups hits into changes that have settled. It has no clock of its own.
type bursts struct {
	groups map[string]*group
	told   map[string]bool // interests to which the newest burst has been reported
	paths  []string        // of all groups
	number map[string]int32
	calls  int // the number of calls of add
	lastID int
}

func newBursts() bursts {
	return bursts{groups: map[string]*group{}, told: map[string]bool{}, number: map[string]int32{}}
}

// add adds sightings of a time and returns what to report at once: one Touched for each burst that they belong to.
func (b *bursts) add(now time.Time, seen []sighting, debounce func(key string) time.Duration) []Touched {
	b.calls++
	var having []*group
	for i := range seen {
		s := &seen[i]
		path := b.numberOf(s.path)
		for j := range s.by {
			by := &s.by[j]
			g := b.groups[by.key]
			if g == nil {
				g = newGroup(by.key, b.burstFor(by.key), now, debounce(by.key))
				b.groups[by.key] = g
				path = b.numberOf(s.path) // it may be the first one
			}
			if g.call != b.calls {
				g.call, g.newest = b.calls, 0
				having = append(having, g)
			}
			g.last, g.newest = now, max(g.newest, s.at)
			g.add(s, by, path)
		}
	}
	var touched []Touched
	for _, g := range having {
		if n := len(touched); n == 0 || touched[n-1].Burst != g.burst {
			touched = append(touched, Touched{Burst: g.burst})
		}
		t := &touched[len(touched)-1]
		t.Keys, t.Written = append(t.Keys, g.key), append(t.Written, timeOf(g.newest))
	}
	return touched
}

// numberOf returns the index of a path.
func (b *bursts) numberOf(path string) int32 {
	n, known := b.number[path]
	if !known {
		n = int32(len(b.paths))
		b.number[path], b.paths = n, append(b.paths, path)
	}
	return n
}

func timeOf(nanoseconds int64) time.Time {
	if nanoseconds == 0 {
		return time.Time{}
	}
	return time.Unix(0, nanoseconds)
}

// burstFor returns the burst that a new group belongs to: the newest one, or a new one if everything has settled or
// the newest one was already reported to the interest.
func (b *bursts) burstFor(key string) int {
	if len(b.groups) == 0 || b.told[key] {
		b.lastID++
		clear(b.told)
	}
	if len(b.groups) == 0 {
		clear(b.number)
		b.paths = nil
	}
	return b.lastID
}

// add combines what happened to a path before with what happens now.
func (g *group) add(s *sighting, by *heard, path int32) {
	if len(g.writing) > 0 {
		delete(g.writing, s.path)
	}
	if s.writing {
		g.writing[s.path] = true
	}
	now := met{path, g.classOf(by), whatOf(s.what)}
	at, known := g.at[path]
	if !known {
		g.at[path] = len(g.hits)
		g.hits = append(g.hits, now)
		return
	}
	switch before := g.hits[at].what; {
	case before == created && now.what == written:
		now.what = created
	case (before == created || before == nothing) && now.what == removed:
		now.what = nothing
	case before == removed && now.what == created:
		now.what = written // saved by renaming, or by deleting first
	}
	g.hits[at] = now
}

// classOf returns the number of the class of a hit.
func (g *group) classOf(h *heard) int32 {
	if len(g.classes) == 1 && len(h.captures) == 0 && g.classes[0].Rule == h.rule && len(g.classes[0].Captures) == 0 {
		return 0 // as in nearly all cases
	}
	c := class{rule: h.rule}
	if len(h.captures) > 0 {
		for _, name := range slices.Sorted(maps.Keys(h.captures)) {
			c.captures += name + "=" + h.captures[name] + "\x00"
		}
	}
	n, known := g.numbers[c]
	if !known {
		n = len(g.classes)
		g.numbers[c], g.classes = n, append(
			g.classes,
			Hit{Key: h.key, Rule: h.rule, Pattern: h.pattern, Captures: h.captures},
		)
	}
	return int32(n)
}

// listed returns the hits to list, ordered by path, and counts the others in More.
func (b *bursts) listed(g *group, isWanted func(met) bool) []Hit {
	type tally struct{ first, more int }
	var out []Hit
	tallies := make([]tally, len(g.classes))
	hit := func(m met) Hit {
		h := g.classes[m.class]
		h.Path, h.What = b.paths[m.path], whatNames[m.what]
		return h
	}
	for i, m := range g.hits {
		if !isWanted(m) {
			continue
		}
		t := &tallies[m.class]
		switch {
		case len(out) < maxListed:
			out = append(out, hit(m))
		case t.more == 0:
			t.first, t.more = i, 1
		default:
			t.more++
		}
	}
	slices.SortFunc(out, func(a, b Hit) int { return strings.Compare(a.Path, b.Path) })
	classes := 0
	for _, t := range tallies {
		switch {
		case t.more == 0:
		case classes < maxClasses:
			classes++
			h := hit(g.hits[t.first])
			h.More = t.more - 1
			out = append(out, h)
		default:
			last := &out[len(out)-1]
			last.More, last.Mixed = last.More+t.more, true
		}
	}
	return out
}

// closed records that the writer of a file has closed it.
func (b *bursts) closed(path string) {
	for _, g := range b.groups {
		delete(g.writing, path)
	}
}

// putOff restarts every debounce.
func (b *bursts) putOff(now time.Time) {
	for _, g := range b.groups {
		g.last, g.counted = now, now
	}
}

// next returns when the next change is due.
func (b *bursts) next() (time.Time, bool) {
	var first time.Time
	for _, g := range b.groups {
		if due := g.due(); first.IsZero() || due.Before(first) {
			first = due
		}
	}
	return first, !first.IsZero()
}

// rested is a change, and what is reported to interests without a part in it.
type rested struct {
	Change
	quiet Unchanged
}

// take returns the changes that are due, one for each burst, with the hits that are news. For an interest, news
// returns the function that tells them apart, or nil if all are news.
func (b *bursts) take(now time.Time, news func(key string) func(path string) bool) []rested {
	byBurst := map[int]*rested{}
	for _, key := range slices.Sorted(maps.Keys(b.groups)) {
		g := b.groups[key]
		if g.due().After(now) {
			continue
		}
		delete(b.groups, key)
		if g.burst == b.lastID {
			b.told[key] = true
		}
		c := byBurst[g.burst]
		if c == nil {
			c = &rested{Change: Change{Burst: g.burst, Since: g.since}, quiet: Unchanged{Burst: g.burst}}
			byBurst[g.burst] = c
		}
		if g.since.Before(c.Since) {
			c.Since = g.since
		}
		isNews := news(key)
		hits := b.listed(g, func(m met) bool { return m.what != nothing && (isNews == nil || isNews(b.paths[m.path])) })
		if len(hits) == 0 {
			c.quiet.Keys = append(c.quiet.Keys, key)
			c.quiet.Hits = append(c.quiet.Hits, b.listed(g, func(met) bool { return true })...)
		}
		c.Hits = append(c.Hits, hits...)
		c.Files = len(b.paths)
	}
	changes := make([]rested, 0, len(byBurst))
	for _, burst := range slices.Sorted(maps.Keys(byBurst)) {
		changes = append(changes, *byBurst[burst])
	}
	return changes
}
