// Package quiet keeps what changes from faces for a moment while processes end and start: faces that look at it, and
// the work for them, take the processors that these need.
package quiet

import "time"

// Moment is such a moment. The zero value is ready to use, by one goroutine.
type Moment struct {
	since time.Time // zero: nothing is kept
	until time.Time
	timer *time.Timer // fires at until
}

const (
	quietFor  = 2 * time.Millisecond // after a process was told to end or start
	quietMost = 10 * time.Millisecond
)

// Begin notes that a process is told to end or to start.
func (m *Moment) Begin() {
	now := time.Now()
	if m.since.IsZero() {
		m.since = now
	}
	m.until = now.Add(quietFor)
	if latest := m.since.Add(quietMost); latest.Before(m.until) {
		m.until = latest
	}
	if m.timer == nil {
		m.timer = time.NewTimer(quietFor)
	}
	m.timer.Reset(m.until.Sub(now))
}

// Holds reports whether faces are not told now.
func (m *Moment) Holds() bool { return !m.since.IsZero() && time.Now().Before(m.until) }

// Over has a value when faces may be told.
func (m *Moment) Over() <-chan time.Time {
	if m.since.IsZero() {
		return nil
	}
	return m.timer.C
}

// Told notes that faces were told.
func (m *Moment) Told() { m.since = time.Time{} }
