package engine

import "time"

// Moment is a point in time on two clocks. The zero value is no moment.
//
// Durations, and the order of events, come only from Steady. Wall can be set in both directions at any time: it is
// for people, and for comparisons with file times.
type Moment struct {
	Wall time.Time
	// Steady is the time since the session started, on a clock that is never set and that stands still while the
	// machine is suspended. It is negative for earlier times.
	Steady time.Duration
}

// IsZero reports whether m is no moment.
func (m Moment) IsZero() bool { return m.Wall.IsZero() }

// Sub returns the time that passed from o to m.
func (m Moment) Sub(o Moment) time.Duration { return m.Steady - o.Steady }

// Add returns the moment d after m, if no clock is set in between.
func (m Moment) Add(d time.Duration) Moment { return Moment{m.Wall.Add(d), m.Steady + d} }

// Before reports whether m was before o. No moment is before every other.
func (m Moment) Before(o Moment) bool {
	if m.IsZero() || o.IsZero() {
		return m.IsZero() && !o.IsZero()
	}
	return m.Steady < o.Steady
}

// After reports whether m was after o.
func (m Moment) After(o Moment) bool { return o.Before(m) }

func later(a, b Moment) Moment {
	if a.Before(b) {
		return b
	}
	return a
}

// The wall clock counts as set when it has moved by more than this, and by more than this part of the elapsed time,
// relative to the steady clock. Clocks that are adjusted without a step run faster or slower by at most 0.05 %
// (adjtimex(2)); reading both clocks takes a moment on a busy machine.
const (
	clockJitter = 10 * time.Millisecond
	clockDrift  = 1000 // a thousandth
)

// passTo sets the time of the step that begins. An earlier time than the last one counts as the last one.
func (e *Engine) passTo(now Moment) {
	if now.Wall.After(e.latest) {
		e.latest = now.Wall
	}
	if e.now.IsZero() {
		e.now = now
		return
	}
	passed := now.Sub(e.now)
	moved := now.Wall.Sub(e.now.Wall) - passed
	if passed < 0 { // the event took a while to arrive
		now = now.Add(-passed)
	}
	if e.now = now; moved.Abs() > clockJitter+passed.Abs()/clockDrift {
		e.clockSet = now
		if before := now.Wall.Add(-moved); before.After(e.latest) { // it may have shown that just before it was set
			e.latest = before
		}
	}
}

// written returns the moment at which a file with this time was written; zero: unknown, because there is no time, it
// is in the future, or the wall clock was set since.
func (e *Engine) written(told time.Time) Moment {
	if told.IsZero() {
		return Moment{}
	}
	at := e.now.Add(told.Sub(e.now.Wall))
	if at.Sub(e.now) > fileTimeLag || !e.clockSet.IsZero() && !at.After(e.clockSet) {
		return Moment{}
	}
	return at
}
