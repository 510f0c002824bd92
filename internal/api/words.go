package api

import (
	"fmt"
	"strings"

	"omnivigil/internal/text/format"
)

// Account says in words why a unit is as it is, a line for each thing that there is to say.
func (s *Snapshot) Account(u *Unit) []string {
	lines := []string{u.Name + " " + u.State.verb()}
	switch u.Freshness {
	case Current:
		lines[0] += ", and current: " + u.currentBecause()
	case Updating:
		lines[0] += ", on its way to the newest code"
	case Stale:
		lines[0] += ", and stale: " + u.Why
	}
	if why := s.WhyOf(u); u.Freshness != Stale && why != "" {
		lines = append(lines, "it "+why)
	}
	if u.Run.Number > 0 {
		lines = append(
			lines,
			fmt.Sprintf("run %d, of ripple %s, ran because: %s", u.Run.Number, numbers(u.Run.Ripples), u.Run.Because),
		)
		if u.Run.Command != "" {
			lines = append(lines, "it ran "+u.Run.Command)
		}
	}
	if ask, asks := s.Asks[u.Name]; asks {
		lines = append(lines, "it waits for "+ask.For())
	}
	if len(u.Owed) > 0 && u.Run.Number > 0 && !u.Moving {
		lines = append(lines, "still to be run, since an earlier run left it undone: "+strings.Join(u.Owed, "; "))
	}
	if u.Queued {
		lines = append(lines, "one more run follows the one at work")
	}
	if u.Run.Problem != "" {
		lines = append(lines, u.Run.Problem)
	} else if u.State.Broken() && u.Run.Exit != nil {
		lines = append(lines, "it ended with "+u.Run.Exit.Text)
	}
	if !u.RetryAt.IsZero() && u.State == Crashed {
		lines = append(lines, "it is started again at "+format.Clock(u.RetryAt))
	}
	if u.Loop != nil {
		lines = append(lines, "it does not react to what set it off in a loop: "+format.List(u.Loop.Files))
	}
	if len(u.Suspects) > 0 {
		lines = append(lines, "changed since it last ran well: "+strings.Join(u.Suspects, ", "))
	}
	return lines
}

func (u *Unit) currentBecause() string {
	switch {
	case !u.Run.ReusedAt.IsZero():
		return "what it made at " + format.Moment(
			u.Run.ReusedAt,
			u.Run.OrderedAt,
		) + " still holds, since nothing that it depends on has changed"
	case u.Pass.Number > 0:
		return "its newest pass has taken up the last save that concerns it"
	}
	return "its newest run began after the last save that concerns it"
}

// verb says in a sentence what a unit does or how it ended.
func (s State) verb() string {
	if s.Broken() {
		return string(s)
	}
	return "is " + string(s)
}

func numbers(ids []int) string {
	return strings.Trim(strings.ReplaceAll(fmt.Sprint(ids), " ", " and "), "[]")
}
