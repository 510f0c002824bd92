package session

import "time"

// quiet keeps what changes from faces for a moment while processes end and start: faces that look at it, and the work
// for them, take the processors that these need.
type quiet struct {
	since time.Time // zero: nothing is kept
	until time.Time
	timer *time.Timer // fires at until
}

const (
	quietFor  = 2 * time.Millisecond // after a process was told to end or start
	quietMost = 10 * time.Millisecond
)

// begin notes that a process is told to end or to start.
func (q *quiet) begin() {
	now := time.Now()
	if q.since.IsZero() {
		q.since = now
	}
	q.until = now.Add(quietFor)
	if latest := q.since.Add(quietMost); latest.Before(q.until) {
		q.until = latest
	}
	if q.timer == nil {
		q.timer = time.NewTimer(quietFor)
	}
	q.timer.Reset(q.until.Sub(now))
}

// holds reports whether faces are not told now.
func (q *quiet) holds() bool { return !q.since.IsZero() && time.Now().Before(q.until) }

// over has a value when faces may be told.
func (q *quiet) over() <-chan time.Time {
	if q.since.IsZero() {
		return nil
	}
	return q.timer.C
}

// told notes that faces were told.
func (q *quiet) told() { q.since = time.Time{} }
