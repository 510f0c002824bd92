package watch

import (
	"maps"
	"slices"
	"strings"
	"time"
)

// Event is what a Watcher tells: a Touched, a Change, an Unchanged, a Notice or a
// Watching.
type Event interface{ event() }

// Touched says at once that files of these interests are being written. Each is
// followed by a Change with the same burst and key when they have come to rest.
type Touched struct {
	Burst int
	Keys  []string
	// Written holds, for each of Keys, the newest time that the files which were touched
	// tell for their change; zero where none does.
	Written []time.Time
}

// Change is a burst of writing that has come to rest, for those interests whose
// debounce is over.
type Change struct {
	Burst int
	Since time.Time
	Hits  []Hit
	Files int // how many files there are in all, about, where not all are listed
}

// Unchanged takes a Touched back for these interests: what was written is what was
// there before. Hits are the files, of which What is empty where they have come and gone.
type Unchanged struct {
	Burst int
	Keys  []string
	Hits  []Hit
}

// Notice is something about the watching itself that the user should know.
type Notice struct{ Text string }

// Hit is one path that one interest hears of.
type Hit struct {
	Key      string
	Path     string // relative to the root, with forward slashes
	What     string // created, written, removed
	Rule     int    // index of the rule that matched
	Pattern  string // its pattern
	Captures map[string]string
	// More is how many further files this interest hears of that the same rule has matched
	// with the same captures, and which are not listed.
	More int
	// Mixed says that More counts files of different rules and captures, this one's among them.
	Mixed bool
}

// A change can be of any size, but a user reads no more than a few names: of each interest so
// many hits are listed, and one more for each further pair of rule and captures.
const (
	maxListed  = 300
	maxClasses = 200
)

// Watching says that the interests given to SetInterests with that number are
// watched for.
type Watching struct{ Number int }

// CaughtUp answers CatchUp: what had been written when that was called has been reported as
// Touched, as far as it concerns any interest.
type CaughtUp struct{ Number int }

func (CaughtUp) event()  {}
func (Touched) event()   {}
func (Watching) event()  {}
func (Change) event()    {}
func (Unchanged) event() {}
func (Notice) event()    {}

// ceilingFactor bounds how long files that never rest can put off a change: that
// many debounces, and no less than minCeiling.
const (
	ceilingFactor = 10
	minCeiling    = 2 * time.Second
)

// writingPause is how long a file that its writer has not closed must be quiet,
// where the debounce is shorter.
const writingPause = 25 * time.Millisecond

// sighting is what happened to a file as it comes in, and who hears of it.
type sighting struct {
	path, what string
	writing    bool  // the writer has not closed the file
	at         int64 // when it changed, as it tells, nanoseconds since 1970; 0: it does not
	by         []heard
}

// heard is an interest that hears of a file, and by which of its rules.
type heard struct {
	key      string
	rule     int
	pattern  string
	captures map[string]string
}

// group collects what one interest will hear of when its files are at rest.
type group struct {
	key      string
	burst    int
	since    time.Time
	last     time.Time
	counted  time.Time // from when on the ceiling counts
	debounce time.Duration
	hits     []met         // in the order in which their paths were met
	at       map[int32]int // where each path is among them
	classes  []Hit         // one that stands for each class
	numbers  map[class]int // of the classes
	writing  map[string]bool
	call     int   // the newest of bursts.add in which it had a part
	newest   int64 // time that a file of that call has told
}

// class is what hits have in common that ask for the same.
type class struct {
	rule     int
	captures string
}

// met is a hit, small: there may be a million of them.
type met struct {
	path  int32 // its number among those of bursts
	class int32
	what  what
}

// what is Hit.What, small.
type what uint8

const (
	nothing what = iota // it has come and gone
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

// bursts groups raw hits into changes at rest. It has no clock of its own.
type bursts struct {
	groups map[string]*group
	told   map[string]bool // interests that have heard of the newest burst already
	paths  []string        // of all groups
	number map[string]int32
	calls  int // of add
	lastID int
}

func newBursts() bursts {
	return bursts{groups: map[string]*group{}, told: map[string]bool{}, number: map[string]int32{}}
}

// add notes sightings at that time and returns what to tell at once: one Touched for
// each burst that they belong to.
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
				path = b.numberOf(s.path) // it may be the first of all
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

// numberOf returns the number of a path.
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

// burstFor returns the burst that a new group belongs to: the newest one, unless
// all is quiet or the interest has heard of that one already.
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

// add folds what happened to a path before with what happens now.
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
		now.what = written // saved by renaming or by deleting first
	}
	g.hits[at] = now
}

// classOf returns the number of the class of what an interest hears.
func (g *group) classOf(h *heard) int32 {
	if len(g.classes) == 1 && len(h.captures) == 0 && g.classes[0].Rule == h.rule && len(g.classes[0].Captures) == 0 {
		return 0 // as it is nearly always
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

// listed returns the hits that are wanted, in order of their paths, or the first of them with how many more
// there are.
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

// closed notes that the writer of a file has closed it.
func (b *bursts) closed(path string) {
	for _, g := range b.groups {
		delete(g.writing, path)
	}
}

// putOff lets every debounce begin again.
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

// rested is a change, and what is reported to interests that have no part in it in the end.
type rested struct {
	Change
	quiet Unchanged
}

// take returns the changes that are due, one for each burst, of hits that are news: news
// returns what tells those of an interest, or nil where all are.
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
