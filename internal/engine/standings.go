package engine

import (
	"slices"
	"sort"
)

// What faces see, and the verdict, are derived from the units. So that an event costs the same with ten units and a
// thousand, only the units that it has changed are derived again: show records them, and at the end of each step
// their standings are updated.

// standing is what a unit means for the verdict.
type standing struct {
	wanted, stopped      bool
	counted              bool // it is enabled or live
	moving, ending       bool // of enabled units, and of others
	stale, broken, loops bool
	doubted              bool // there are doubts about it
	paused               bool // by name
}

func (u *unit) standing() standing {
	return standing{
		wanted: u.wanted, stopped: !u.wanted && u.state == Stopped, counted: u.wanted || u.live(),
		moving: u.moving && u.wanted, ending: u.moving && !u.wanted,
		stale:  !u.moving && u.wanted && u.freshness() == Stale,
		broken: !u.moving && u.state.Broken(),
		loops:  u.loop != nil && !u.loop.Noted, doubted: len(u.doubts) > 0, paused: u.paused,
	}
}

// unitSet is a set of units in the order of the file.
type unitSet []*unit

func (r unitSet) find(u *unit) (int, bool) {
	i := sort.Search(len(r), func(i int) bool { return r[i].place >= u.place })
	return i, i < len(r) && r[i] == u
}

func (r *unitSet) set(u *unit, in bool) {
	switch i, has := r.find(u); {
	case in && !has:
		*r = slices.Insert(*r, i, u)
	case !in && has:
		*r = slices.Delete(*r, i, i+1)
	}
}

// standings are all units by their standing.
type standings struct {
	wanted, stopped, counted             int
	moving, ending, stale, broken, loops unitSet
	doubted, paused                      unitSet

	units   []*unit // in the order of the file, removed ones last
	shown   []*Unit // the view of faces on each of them
	changed []*unit // changed in this step
	unshown []*unit // not shown since they changed
	walks   int     // the number of calls of unshowBehind
}

// show records that something of a unit has changed that faces see.
func (e *Engine) show(u *unit) {
	if !u.changed {
		u.changed = true
		e.standings.changed = append(e.standings.changed, u)
	}
}

// place sorts the units by the order of the plan.
func (s *standings) place(units []*unit) {
	*s = standings{units: units, shown: make([]*Unit, len(units)), walks: s.walks}
	for i, u := range units {
		u.place, u.standsFor, u.unshown, u.changed = i, standing{}, true, true
	}
	s.changed, s.unshown = slices.Clone(units), slices.Clone(units)
}

// enter updates the standings of all units that the step has changed, and reports those that have become stale or
// current.
func (e *Engine) enter() {
	s := &e.standings
	for i := 0; i < len(s.changed); i++ {
		u := s.changed[i]
		u.changed = false
		e.doubtNeeds(u)
		for _, d := range u.downstream {
			e.doubtNeeds(d)
		}
		if s.at(u) {
			s.enter(u)
			e.tellFreshness(u)
		}
	}
	s.changed = s.changed[:0]
}

func (s *standings) at(u *unit) bool { return u.place < len(s.units) && s.units[u.place] == u }

func (s *standings) enter(u *unit) {
	count := func(n *int, was, is bool) {
		switch {
		case is && !was:
			*n++
		case was && !is:
			*n--
		}
	}
	was, is := u.standsFor, u.standing()
	u.standsFor = is
	count(&s.wanted, was.wanted, is.wanted)
	count(&s.stopped, was.stopped, is.stopped)
	count(&s.counted, was.counted, is.counted)
	for _, r := range []struct {
		of      *unitSet
		was, is bool
	}{{&s.moving, was.moving, is.moving}, {&s.ending, was.ending, is.ending}, {&s.stale, was.stale, is.stale},
		{&s.broken, was.broken, is.broken}, {&s.loops, was.loops, is.loops}, {&s.doubted, was.doubted, is.doubted},
		{&s.paused, was.paused, is.paused}} {
		if r.was != r.is {
			r.of.set(u, r.is)
		}
	}
	s.unshow(u)
	s.walks++
	s.unshowBehind(u)
}

// unshow records that a unit is to be derived again.
func (s *standings) unshow(u *unit) {
	if !u.unshown {
		u.unshown = true
		s.unshown = append(s.unshown, u)
	}
}

// unshowBehind does so for the units whose texts mention the unit: they wait for it, or are stale because of it,
// perhaps through others that are not up to date, either.
func (s *standings) unshowBehind(u *unit) {
	for _, d := range u.downstream {
		if d.walked == s.walks || d.upToDate && d.obstacle == nil && d.generation > 0 {
			continue
		}
		d.walked = s.walks
		if d.obstacle != nil || d.freshness() == Stale {
			s.unshow(d)
		}
		s.unshowBehind(d)
	}
}

// tellFreshness reports that a unit has become stale or current.
func (e *Engine) tellFreshness(u *unit) {
	now := u.freshness()
	if now == u.toldFreshness || now != Stale && now != Current {
		if now == NoCode {
			u.toldFreshness = now
		}
		return
	}
	u.toldFreshness = now
	f := Fact{Kind: FactUnitCurrent, Unit: u.spec.Name}
	if now == Stale {
		block := u.staleness().Block
		f.Kind, f.Block = FactUnitStale, &block
	}
	if u.run != nil {
		f.Run = u.run.Number
	}
	e.tell(f)
}
