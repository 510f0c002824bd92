package api

import (
	"fmt"
	"strings"

	"omnivigil/internal/text/format"
)

// Account explains the state of a unit in words, one line for each aspect.
func (s *Snapshot) Account(u *Unit) []string {
	lines := s.Standing(u)
	if len(u.Owed) > 0 && u.Run.Number > 0 && !u.Moving {
		lines = append(lines, "still has to run, because an earlier run ended before it: "+strings.Join(u.Owed, "; "))
	}
	if u.Run.Problem != "" {
		lines = append(lines, u.Run.Problem)
	} else if u.State.Broken() && u.Run.Exit != nil {
		lines = append(lines, "ended: "+u.Run.Exit.Text)
	}
	if len(u.Suspects) > 0 {
		lines = append(lines, "changed since its last good run: "+strings.Join(u.Suspects, ", "))
	}
	return lines
}

// Standing is Account without what it says about a failure.
func (s *Snapshot) Standing(u *Unit) []string {
	lines := []string{u.Name + " " + u.State.verb()}
	switch u.Freshness {
	case Current:
		lines[0] += " and current: " + u.currentBecause()
	case Updating:
		lines[0] += ", updating to the newest code"
	case Stale:
		lines[0] += " and stale: " + u.Why
	}
	if why := s.WhyOf(u); u.Freshness != Stale && why != "" {
		lines = append(lines, "it "+why)
	}
	if u.Run.Because != "" {
		lines = append(
			lines,
			fmt.Sprintf("run %d (ripple %s) started because: %s", u.Run.Number, numbers(u.Run.Ripples), u.Run.Because),
		)
		if u.Run.Command != "" {
			lines = append(lines, "command: "+u.Run.Command)
		}
	}
	if u.Run.Pace != "" {
		lines = append(lines, "unusual: "+u.Run.Pace)
	}
	if ask, asks := s.Asks[u.Name]; asks {
		lines = append(lines, "waiting for "+ask.For())
	}
	if u.Queued {
		lines = append(lines, "one more run is queued")
	}
	if !u.RetryAt.IsZero() && u.State == Crashed {
		lines = append(lines, "restarts at "+format.Clock(u.RetryAt))
	}
	if u.Loop != nil {
		lines = append(lines, "ignores the files of a loop: "+format.List(u.Loop.Files))
	}
	return lines
}

// Member is the member of the project whose settings the unit is in; empty: the project itself.
func (u *Unit) Member() string {
	member, _, is := strings.Cut(u.Name, "/")
	if !is {
		return ""
	}
	return member
}

func (u *Unit) currentBecause() string {
	switch {
	case u.Run.Restored:
		return "its result was restored from " +
			format.RunOf(u.Run.MadeBy, format.Moment(u.Run.ReusedAt, u.Run.OrderedAt)) +
			", because everything that it depends on is as it was then"
	case !u.Run.ReusedAt.IsZero():
		return "its result of " + format.RunOf(u.Run.MadeBy, format.Moment(u.Run.ReusedAt, u.Run.OrderedAt)) +
			" is still valid, because nothing that it depends on has changed"
	case u.Pass.Number > 0:
		return "its last pass picked up the last relevant save"
	}
	return "its last run started after the last relevant save"
}

// Word is what a unit is in one word, in all faces: its state, unless it is paused, in a loop, queued for a job, or
// stale.
func (u *Unit) Word() string {
	switch {
	case u.Paused:
		return "paused"
	case u.Loop != nil && !u.Loop.Noted:
		return "loop"
	case u.InLine:
		return "queued"
	case u.Freshness == Stale && !u.State.Broken() && u.State != Stopped && u.Run.Number > 0:
		return string(Stale)
	}
	return string(u.State)
}

// verb is what a unit does, or how it ended, in a sentence.
func (s State) verb() string {
	if s.Broken() {
		return string(s)
	}
	return "is " + string(s)
}

func numbers(ids []int) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(ids), " ", " and "), "[]")
}
