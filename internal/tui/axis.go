package tui

import (
	"sort"
	"time"

	"omnivigil/internal/engine"
)

// spans are the lengths of time that the lanes can show.
var spans = []time.Duration{
	15 * time.Second, 30 * time.Second, time.Minute, 2 * time.Minute, 5 * time.Minute, 15 * time.Minute,
	time.Hour, 4 * time.Hour, 12 * time.Hour,
}

const firstSpan = 2 // a minute

// axis maps columns to moments. Its buckets lie on whole multiples of their
// width, so that what was drawn moves left unchanged as time goes on.
type axis struct {
	start  time.Time // of the first column
	bucket time.Duration
	n      int // columns
}

// axisTo returns the axis of n columns that ends at the bucket of end.
func axisTo(end time.Time, span time.Duration, n int) axis {
	n = max(n, 1)
	bucket := max(span/time.Duration(n), time.Millisecond).Round(time.Millisecond)
	last := end.Truncate(bucket)
	return axis{start: last.Add(-time.Duration(n-1) * bucket), bucket: bucket, n: n}
}

// column returns where a moment lies; it may be outside 0..n-1.
func (a axis) column(t time.Time) int {
	d := t.Sub(a.start)
	if d < 0 {
		return -1
	}
	return int(d / a.bucket)
}

func (a axis) at(column int) time.Time { return a.start.Add(time.Duration(column) * a.bucket) }

func (a axis) span() time.Duration { return time.Duration(a.n) * a.bucket }

// cell is one column of a lane.
type cell struct {
	state engine.State
	stale bool
}

// weight orders states by what must not be lost when several share a column.
var weight = map[engine.State]int{
	engine.Idle: 0, engine.Stopped: 1, engine.Done: 2, engine.Ready: 3, engine.Waiting: 4, engine.Stopping: 5,
	engine.Setup: 6, engine.Starting: 7, engine.Running: 8, engine.Failed: 9, engine.Crashed: 10,
}

// cells draws a unit's life on the axis. Columns after now stay idle.
func (a axis) cells(marks []engine.Mark, now time.Time) []cell {
	out := make([]cell, a.n)
	i := sort.Search(len(marks), func(i int) bool { return marks[i].At.After(a.start) }) - 1
	for column := range out {
		from, to := a.at(column), a.at(column+1)
		if from.After(now) {
			break
		}
		for i+1 < len(marks) && !marks[i+1].At.After(from) {
			i++
		}
		var c cell
		for j := max(i, 0); j < len(marks) && marks[j].At.Before(to); j++ {
			m := marks[j]
			if weight[m.State] >= weight[c.state] {
				c.state = m.State
			}
			c.stale = m.Stale
		}
		out[column] = c
	}
	return out
}

// ticks returns moments at which the axis is labelled, no closer together than
// gap columns, on round times.
func (a axis) ticks(gap int) []time.Time {
	steps := []time.Duration{
		time.Second, 2 * time.Second, 5 * time.Second, 10 * time.Second, 15 * time.Second, 30 * time.Second,
		time.Minute, 2 * time.Minute, 5 * time.Minute, 10 * time.Minute, 15 * time.Minute, 30 * time.Minute,
		time.Hour, 2 * time.Hour, 4 * time.Hour,
	}
	step := steps[len(steps)-1]
	for _, s := range steps {
		if int(s/a.bucket) >= gap {
			step = s
			break
		}
	}
	var out []time.Time
	for t := a.start.Truncate(step).Add(step); t.Before(a.at(a.n)); t = t.Add(step) {
		out = append(out, t)
	}
	return out
}
