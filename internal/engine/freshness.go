package engine

import "time"

// Freshness says whether a unit runs the newest code that concerns it.
type Freshness uint8

const (
	NoCode   Freshness = iota // nothing of it runs, and nothing newer waits for it
	Current                   // it runs, or ended well with, the newest code
	Updating                  // it is on its way there
	Stale                     // it does not, and will not by itself
)

func (f Freshness) String() string {
	return [...]string{"none", "current", "updating", "stale"}[f]
}

func (u *unit) freshness() Freshness {
	switch {
	case u.moving:
		return Updating
	case u.state == Ready || u.state == Done:
		if u.fresh && u.pending == nil {
			return Current
		}
		return Stale
	case u.run != nil && (u.pending != nil || u.touched > u.knows()):
		return Stale
	}
	return NoCode
}

// Staleness is why a unit is stale: Since is the first save that it does not
// hold, Text what stands in the way.
type Staleness struct {
	Since time.Time
	Text  string
	root  *unit // whose state stands in the way
}

// staleness looks for what keeps a stale unit from the newest code, first at the
// unit itself and then up the units that it waits for.
func (u *unit) staleness() Staleness {
	if up := u.heldUpBy(); up != nil {
		s := up.staleness()
		if u.touched > u.goodSaw || s.Since.IsZero() {
			s.Since = u.staleSince
		}
		return s
	}
	s := Staleness{Since: u.staleSince, root: u}
	switch {
	case u.state.Broken():
		s.Text = u.spec.Name + " " + u.state.String()
	case u.paused:
		s.Text = u.spec.Name + " is paused"
	case u.hold != nil && u.hold.on == nil:
		s.Text = "reactions are paused"
	case !u.wanted:
		s.Text = u.spec.Name + " is off"
	default:
		s.Text = u.spec.Name + " is " + u.state.String()
	}
	return s
}

// heldUpBy returns the unit upstream that this one cannot get past, or nil.
func (u *unit) heldUpBy() *unit {
	if u.state.Broken() || u.paused {
		return nil
	}
	if u.hold != nil {
		return u.hold.on
	}
	for _, f := range u.follows {
		if !f.fresh {
			return f
		}
	}
	return nil
}

func (u *unit) brokenWords() string {
	if u.run == nil {
		return u.spec.Name + " " + u.state.String()
	}
	detail := u.run.Problem
	if detail == "" {
		detail = u.run.Exit.words()
	}
	return u.spec.Name + " " + u.state.String() + " (" + detail + ")"
}
