package watch

import (
	"sort"
	"time"
)

// Interest is a set of files that somebody wants to hear of.
type Interest struct {
	Key      string   // names it in events
	Rules    []Rule   // the first whose pattern matches a path decides
	Ignore   []string // globs that keep paths out, files and whole folders
	Debounce time.Duration
	// Unignored has it hear also of what version control ignores.
	Unignored bool
	// SkipUnchanged keeps quiet about files that hold what they held before.
	SkipUnchanged bool
	// Spare interests hear only of files that no other interest does. A bounded number of
	// folders is watched for them alone.
	Spare bool
	// Poll, if not 0, is how often its folders are looked at, in place of being
	// told by the system.
	Poll time.Duration
}

// Rule is one pattern of an interest: a glob relative to the root, in which
// {name} captures one path element and {name...} any number, and in which a
// folder's name means all below it.
type Rule struct {
	Pattern string
	Out     bool // paths that match are not told
}

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
}

// Unchanged takes a Touched back for these interests: what was written is what was
// there before.
type Unchanged struct {
	Burst int
	Keys  []string
}

// Notice is something about the watching itself that the person should know.
type Notice struct{ Text string }

// Hit is one path that one interest hears of.
type Hit struct {
	Key      string
	Path     string // relative to the root, with forward slashes
	What     string // created, written, removed
	Rule     int    // index of the rule that matched
	Pattern  string // its pattern
	Captures map[string]string
}

// Watching says that the interests given to SetInterests with that number are
// watched for.
type Watching struct{ Number int }

func (Touched) event()   {}
func (Watching) event()  {}
func (Change) event()    {}
func (Unchanged) event() {}
func (Notice) event()    {}

// ceilingFactor bounds how long files that never rest can put off a change: that
// many debounces, and no less than leastCeiling.
const (
	ceilingFactor = 10
	leastCeiling  = 2 * time.Second
)

// writingPause is how long a file that its writer has not closed must be quiet,
// where the debounce is shorter.
const writingPause = 25 * time.Millisecond

// sighting is a hit as it comes in.
type sighting struct {
	Hit
	writing bool  // the writer has not closed the file
	at      int64 // when it changed, as it tells, nanoseconds since 1970; 0: it does not
}

// group collects what one interest will hear of when its files are at rest.
type group struct {
	burst    int
	since    time.Time
	last     time.Time
	counted  time.Time // from when on the ceiling counts
	debounce time.Duration
	hits     map[string]Hit
	writing  map[string]bool
}

func (g *group) due() time.Time {
	debounce := g.debounce
	if len(g.writing) > 0 {
		debounce = max(debounce, writingPause)
	}
	due, ceiling := g.last.Add(debounce), g.counted.Add(max(ceilingFactor*g.debounce, leastCeiling))
	if due.After(ceiling) {
		return ceiling
	}
	return due
}

// bursts groups raw hits into changes at rest. It has no clock of its own.
type bursts struct {
	groups map[string]*group
	told   map[string]bool // interests that have heard of the newest burst already
	lastID int
}

func newBursts() bursts {
	return bursts{groups: map[string]*group{}, told: map[string]bool{}}
}

// add notes hits at that time and returns what to tell at once: one Touched for
// each burst that they belong to.
func (b *bursts) add(now time.Time, hits []sighting, debounce func(key string) time.Duration) []Touched {
	var touched []Touched
	seen, newest := map[string]bool{}, map[string]int64{}
	for _, h := range hits {
		newest[h.Key] = max(newest[h.Key], h.at)
	}
	for _, h := range hits {
		g := b.groups[h.Key]
		if g == nil {
			g = &group{burst: b.burstFor(h.Key), since: now, counted: now, debounce: debounce(h.Key), hits: map[string]Hit{}, writing: map[string]bool{}}
			b.groups[h.Key] = g
		}
		g.last = now
		g.add(h)
		if seen[h.Key] {
			continue
		}
		seen[h.Key] = true
		if n := len(touched); n == 0 || touched[n-1].Burst != g.burst {
			touched = append(touched, Touched{Burst: g.burst})
		}
		t := &touched[len(touched)-1]
		t.Keys, t.Written = append(t.Keys, h.Key), append(t.Written, timeOf(newest[h.Key]))
	}
	return touched
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
	return b.lastID
}

// add folds what happened to a path before with what happens now.
func (g *group) add(s sighting) {
	h := s.Hit
	if delete(g.writing, h.Path); s.writing {
		g.writing[h.Path] = true
	}
	if before, ok := g.hits[h.Path]; ok {
		switch {
		case before.What == "created" && h.What == "written":
			h.What = "created"
		case (before.What == "created" || before.What == "") && h.What == "removed":
			h.What = "" // it has come and gone
		case before.What == "removed" && h.What == "created":
			h.What = "written" // saved by renaming or by deleting first
		}
	}
	g.hits[h.Path] = h
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

// take returns the changes that are due, one for each burst.
func (b *bursts) take(now time.Time) []Change {
	byBurst := map[int]*Change{}
	for key, g := range b.groups {
		if g.due().After(now) {
			continue
		}
		delete(b.groups, key)
		if g.burst == b.lastID {
			b.told[key] = true
		}
		c := byBurst[g.burst]
		if c == nil {
			c = &Change{Burst: g.burst, Since: g.since}
			byBurst[g.burst] = c
		}
		if g.since.Before(c.Since) {
			c.Since = g.since
		}
		for _, h := range g.hits {
			c.Hits = append(c.Hits, h)
		}
	}
	changes := make([]Change, 0, len(byBurst))
	for _, c := range byBurst {
		sort.Slice(c.Hits, func(i, j int) bool {
			a, b := c.Hits[i], c.Hits[j]
			return a.Key < b.Key || a.Key == b.Key && a.Path < b.Path
		})
		changes = append(changes, *c)
	}
	sort.Slice(changes, func(i, j int) bool { return changes[i].Burst < changes[j].Burst })
	return changes
}
