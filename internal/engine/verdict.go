package engine

import (
	"fmt"
	"strings"
)

// Verdict is the project's state in one line.
type Verdict struct {
	Word VerdictWord
	Text string // what stands behind the word
}

// VerdictWord is the verdict in one word.
type VerdictWord uint8

const (
	VerdictCurrent VerdictWord = iota
	VerdictUpdating
	VerdictStale
	VerdictBroken
)

func (w VerdictWord) String() string {
	return [...]string{"CURRENT", "UPDATING", "STALE", "BROKEN"}[w]
}

// verdict weighs all units. A failure that is nobody's fault but its own is
// broken and comes first; one that keeps a running unit on old code is told as
// that unit's staleness, because this is what hurts the person.
func (e *Engine) verdict() Verdict {
	var moving, stale, broken []*unit
	told := map[*unit]bool{}
	for _, u := range e.inFileOrder() {
		switch {
		case u.freshness() == Stale:
			stale = append(stale, u)
			if s := u.staleness(); s.root != u {
				told[s.root] = true
			}
		case u.moving:
			moving = append(moving, u)
		}
		if u.state.Broken() && !u.moving {
			broken = append(broken, u)
		}
	}
	untold := broken[:0:0]
	for _, u := range broken {
		if !told[u] {
			untold = append(untold, u)
		}
	}
	switch {
	case e.leaving:
		return Verdict{VerdictUpdating, "leaving: " + e.motions(moving)}
	case len(untold) > 0:
		return Verdict{VerdictBroken, brokenText(untold, moving)}
	case len(moving) > 0:
		return Verdict{VerdictUpdating, e.motions(moving)}
	case len(stale) > 0:
		return Verdict{VerdictStale, staleText(stale)}
	case e.broken != "":
		problem, _, _ := strings.Cut(e.broken, "\n")
		return Verdict{VerdictStale, "the settings just saved are not in force: " + problem}
	}
	return Verdict{VerdictCurrent, e.currentText()}
}

func (e *Engine) inFileOrder() []*unit {
	units := make([]*unit, 0, len(e.units))
	for _, spec := range e.plan.Units {
		units = append(units, e.byName[spec.Name])
	}
	for _, u := range e.units {
		if u.removed {
			units = append(units, u)
		}
	}
	return units
}

func brokenText(broken, moving []*unit) string {
	var parts []string
	for _, u := range broken {
		parts = append(parts, u.brokenWords())
	}
	for _, u := range moving {
		parts = append(parts, u.motion(""))
	}
	return strings.Join(parts, ", ")
}

func staleText(stale []*unit) string {
	s := stale[0].staleness()
	verb, names := "still runs", stale[0].spec.Name
	if stale[0].spec.Kind.Ends() {
		verb = "still stands on"
	}
	if len(stale) > 1 {
		names = fmt.Sprintf("%s and %d more", names, len(stale)-1)
		verb = strings.Replace(verb, "s ", " ", 1)
		verb = strings.Replace(verb, "runs", "run", 1)
	}
	if !stale[0].live() && stale[0].state != Done {
		return fmt.Sprintf("%s has not seen what was saved %s: %s", names, Clock(s.Since), s.Text)
	}
	return fmt.Sprintf("%s %s the code from before %s: %s", names, verb, Clock(s.Since), s.Text)
}

// motions tells who is on the way, each with what it does or waits for.
func (e *Engine) motions(moving []*unit) string {
	parts := make([]string, len(moving))
	last := ""
	for i, u := range moving {
		parts[i] = u.motion(last)
		last = u.spec.Name
	}
	return fmt.Sprintf("%d of %d: %s", len(moving), e.wantedCount(), strings.Join(parts, ", "))
}

// motion says what a moving unit does; last is the unit named just before.
func (u *unit) motion(last string) string {
	if u.hold != nil && u.hold.lookout {
		return u.spec.Name + " " + u.lookoutWords()
	}
	if u.hold != nil && u.hold.on != nil && u.state != Running && u.state != Stopping {
		on := u.hold.on.spec.Name
		if on == last {
			on = "it"
		}
		return u.spec.Name + " waits for " + on
	}
	if u.state.InMotion() {
		return u.spec.Name + " " + u.state.String()
	}
	for _, f := range u.follows {
		if f.moving {
			return u.spec.Name + " follows " + f.spec.Name
		}
	}
	return u.spec.Name + " has files being written"
}

func (e *Engine) wantedCount() int {
	n := 0
	for _, u := range e.units {
		if u.wanted || u.live() {
			n++
		}
	}
	return n
}

func (e *Engine) currentText() string {
	n, all := e.wantedCount(), len(e.units)
	who := fmt.Sprintf("all %d run", n)
	switch {
	case n == 0:
		return "nothing runs"
	case n < all:
		who = fmt.Sprintf("%d of %d run", n, all)
	case n == 1:
		who = e.units[0].spec.Name + " runs"
	}
	paused := e.ownWords()
	if e.paused {
		paused += "; reactions are paused"
	}
	for i := len(e.ripples.all) - 1; i >= 0; i-- {
		r := e.ripples.all[i]
		switch {
		case r.Cause.Kind != CauseChange:
		case r.Outcome != EndedCurrent: // something later made it good
			return fmt.Sprintf("%s the code saved %s%s", who, Clock(r.Since), paused)
		default:
			return fmt.Sprintf("%s the code saved %s, at rest after %s%s",
				who, Clock(r.Since), Duration(r.RestAt.Sub(r.Since)), paused)
		}
	}
	if len(e.ripples.all) == 0 {
		return who
	}
	first := e.ripples.all[0]
	return fmt.Sprintf("%s, started in %s%s", who, Duration(first.RestAt.Sub(first.OpenedAt)), paused)
}
