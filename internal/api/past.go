package api

import (
	"fmt"
	"slices"
	"sort"
	"time"
)

// PastVerdict is the verdict from a time on.
type PastVerdict struct {
	At      time.Time `json:"at"`
	Verdict Verdict   `json:"verdict"`
	Turned  Turn      `json:"turned,omitempty"` // with it, the project turned bad or good
}

// Turn is a change of the project between good and bad: stale and broken are bad, current and stopped are good. While
// it is updating, it is what it was before.
type Turn string

const (
	TurnedBad  Turn = "bad"
	TurnedGood Turn = "good"
)

// Bad reports whether the verdict is that something does not run the code just saved.
func (w VerdictWord) Bad() bool { return w == VerdictBroken || w == VerdictStale }

// VerdictQuery selects a verdict of this session.
type VerdictQuery struct {
	At     time.Time // the verdict at this time; zero: now
	Turned Turn      // the last one up to that time with which the project turned so; empty: any
}

func (q *VerdictQuery) params() []param {
	turned := textParam("turned", (*string)(&q.Turned))
	set := turned.set
	turned.set = func(texts []string) string {
		if turns := []Turn{TurnedBad, TurnedGood}; !slices.Contains(turns, Turn(texts[0])) {
			return fmt.Sprintf("must be bad or good, not %q", texts[0])
		}
		return set(texts)
	}
	return []param{timeParam("at", &q.At), turned}
}

// AsOf returns the project as it was at a time, as far as it is kept: the verdict, and of each unit its state, its
// freshness and its run. What a unit is in addition to that (its settings, its results, what the user has set) is as
// it is now.
func (s *Snapshot) AsOf(at time.Time, verdict Verdict) *Snapshot {
	out := *s
	out.Verdict, out.Doubts = verdict, nil
	out.Units = make([]*Unit, len(s.Units))
	for i, u := range s.Units {
		out.Units[i] = u.asOf(at)
	}
	return &out
}

// GoodSince is when the last good run of the unit began; zero: there was none.
func (u *Unit) GoodSince() (at time.Time) {
	run := 0
	for _, m := range slices.Backward(u.Marks) {
		if run == 0 && (m.State == Ready || m.State == Done) {
			run = m.Run
		}
		if run > 0 && m.Run == run {
			at = m.At
		}
	}
	return at
}

// asOf is Snapshot.AsOf for one unit.
func (u *Unit) asOf(at time.Time) *Unit {
	out := *u
	out.State, out.Freshness, out.Why = Idle, NoCode, ""
	out.Paused, out.Moving, out.Queued, out.InLine = false, false, false, false
	out.Loop, out.RetryAt, out.Owed, out.Suspects = nil, time.Time{}, nil, nil
	out.Run, out.Pass = Run{}, Pass{}
	i := sort.Search(len(u.Marks), func(i int) bool { return u.Marks[i].At.After(at) }) - 1
	if i < 0 {
		return &out
	}
	m := u.Marks[i]
	out.State, out.Freshness = m.State, m.freshness()
	out.Run.Number = m.Run
	for ; i >= 0 && u.Marks[i].Run == m.Run; i-- {
		switch one := u.Marks[i]; {
		case one.State == Ready:
			out.Run.ReadyAt = one.At
		case one.State == Done, one.State.Broken():
			out.Run.EndedAt = one.At
		}
		out.Run.OrderedAt = u.Marks[i].At
	}
	return &out
}

// freshness is what is known of a unit's freshness from a mark.
func (m Mark) freshness() Freshness {
	switch {
	case m.State == Idle, m.State == Stopped, m.State.Broken():
		return NoCode
	case m.Stale:
		return Stale
	case m.State == Ready, m.State == Done:
		return Current
	}
	return Updating
}
