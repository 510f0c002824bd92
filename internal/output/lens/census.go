package lens

import (
	"sync"
	"time"

	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/query"
)

// Limits of a census.
const (
	// A unit whose lines are of more kinds has text that is different every time: none of its kinds counts as new.
	maxKinds = 10_000
	// From enoughLines lines on, the same is true of a unit with more than one new kind in rarely lines.
	enoughLines, rarely = 40, 4
	// fine and coarse are the times for which lines are counted together: recent ones, and those further back.
	fine, coarse  = 250 * time.Millisecond, 10 * time.Second
	keptFine      = 4 * 60 * 15 // a quarter of an hour
	keptCoarse    = 6 * 60 * 24 * 7
	checkInterval = 256 // lines between two looks at the clock
)

// Census counts the lines of a log over time, and knows when each kind of line was first written. Its methods may be
// called from any goroutine. The zero value has seen nothing.
type Census struct {
	mu    sync.Mutex
	end   int64 // the number of the next line to read
	units map[string]*unitCensus
}

// unitCensus is what a census knows of one unit.
type unitCensus struct {
	kinds    map[uint64]int64 // the number of the first line of each kind
	lines    int64
	many     bool    // too many kinds
	fine     []Count // oldest first
	coarse   []Count // those before fine
	lastKind uint64
}

// Count is how many lines were written from a time on.
type Count struct {
	At       time.Time
	Lines    int
	Warnings int // lines that state a warning
	Errors   int // lines that state an error, or report a failure
}

// Advance reads on in a log for at most a time, and returns the number up to which it has read.
func (c *Census) Advance(v *logbook.View, atMost time.Duration) (int64, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	c.end = max(c.end, v.First())
	if c.end >= v.End() {
		return c.end, nil
	}
	until := time.Now().Add(atMost)
	output := func(e *logbook.Entry) bool { return e.Stream == logbook.Output }
	err := v.Scan(c.end, false, output, func(chunk *logbook.Chunk) (bool, error) {
		for i := range chunk.Batches {
			b := &chunk.Batches[i]
			if b.First+b.Lines <= c.end {
				continue
			}
			if output(b.Entry) && !c.batch(b, until) {
				return false, nil
			}
			c.end = b.First + b.Lines
		}
		c.end = max(c.end, chunk.End)
		return time.Now().Before(until), nil
	})
	if err == nil && c.end < v.End() && time.Now().Before(until) {
		c.end = v.End() // the rest has no output
	}
	return c.end, err
}

// batch reads the lines of a batch, until a time at the latest. It reports whether it has read them all.
func (c *Census) batch(b *logbook.Batch, until time.Time) bool {
	u := c.units[b.Unit]
	if u == nil {
		if c.units == nil {
			c.units = map[string]*unitCensus{}
		}
		u = &unitCensus{kinds: map[uint64]int64{}}
		c.units[b.Unit] = u
	}
	count := u.countAt(time.Unix(0, b.At))
	return b.Each(func(number int64, text, _ []byte) bool {
		if number < c.end {
			return true
		}
		c.end = number + 1
		u.lines++
		u.kind(Kind(text), number)
		count.Lines++
		switch level(b.Tone, text) {
		case query.Error:
			count.Errors++
		case query.Warning:
			count.Warnings++
		}
		return number%checkInterval != 0 || time.Now().Before(until)
	})
}

// kind notes a line of a kind.
func (u *unitCensus) kind(k uint64, number int64) {
	if u.many || k == u.lastKind {
		return
	}
	u.lastKind = k
	if _, known := u.kinds[k]; known {
		return
	}
	if len(u.kinds) >= maxKinds {
		u.many, u.kinds = true, nil
		return
	}
	u.kinds[k] = number
}

// countAt returns the count of a time.
func (u *unitCensus) countAt(at time.Time) *Count {
	from := at.Truncate(fine)
	if n := len(u.fine); n > 0 && !u.fine[n-1].At.Before(from) {
		return &u.fine[n-1] // also if the clock was set back
	}
	if len(u.fine) >= 2*keptFine {
		u.coarsen(keptFine)
	}
	u.fine = append(u.fine, Count{At: from})
	return &u.fine[len(u.fine)-1]
}

// coarsen counts the oldest lines together over longer times.
func (u *unitCensus) coarsen(oldest int) {
	for _, one := range u.fine[:oldest] {
		from := one.At.Truncate(coarse)
		if n := len(u.coarse); n == 0 || u.coarse[n-1].At.Before(from) {
			u.coarse = append(u.coarse, Count{At: from})
		}
		u.coarse[len(u.coarse)-1].add(one)
	}
	u.fine = append([]Count(nil), u.fine[oldest:]...)
	u.coarse = u.coarse[max(len(u.coarse)-keptCoarse, 0):]
}

func (c *Count) add(other Count) {
	c.Lines += other.Lines
	c.Warnings += other.Warnings
	c.Errors += other.Errors
}

// IsNew reports whether a line is of a kind that its unit has written first in the line with a number or later. It is
// false for lines that have not been read.
func (c *Census) IsNew(unit string, number int64, text []byte, since int64) bool {
	c.mu.Lock()
	defer c.mu.Unlock()
	u := c.units[unit]
	if u == nil || u.many || number >= c.end || u.lines >= enoughLines && int64(len(u.kinds))*rarely > u.lines {
		return false
	}
	first, known := u.kinds[Kind(text)]
	return known && first >= since
}

// Over returns the counts of units (nil: all) in columns of equal length, from a time on. Lines are counted in the
// column in which their time of counting begins.
func (c *Census) Over(wanted func(unit string) bool, from time.Time, column time.Duration, columns int) []Count {
	c.mu.Lock()
	defer c.mu.Unlock()
	out := make([]Count, columns)
	for i := range out {
		out[i].At = from.Add(time.Duration(i) * column)
	}
	for name, u := range c.units {
		if wanted != nil && !wanted(name) {
			continue
		}
		for _, all := range [][]Count{u.coarse, u.fine} {
			for _, one := range all {
				if i := int(one.At.Sub(from) / column); !one.At.Before(from) && i < columns {
					out[i].add(one)
				}
			}
		}
	}
	return out
}
