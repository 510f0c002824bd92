package engine

// Freshness says whether a unit runs the newest code that concerns it.
type Freshness uint8

const (
	NoCode   Freshness = iota // it does not run, and is not enabled; or it is broken
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
		if u.upToDate && u.pending == nil {
			return Current
		}
		return Stale
	case u.wanted && !u.state.Broken():
		return Stale // it is held up for good, perhaps since it was first to start
	case u.run != nil && (u.pending != nil || u.touched > u.lastRead()):
		return Stale
	}
	return NoCode
}

// Staleness is why a unit is stale: Since is the first save that it has not read,
// zero where it is stale for another reason, Text what prevents it from becoming current.
type Staleness struct {
	Since Moment
	Text  string
	root  *unit // whose state stands in the way
}

// staleness looks for what keeps a stale unit from the newest code, first at the
// unit itself and then up the units that it waits for.
func (u *unit) staleness() Staleness {
	if up := u.heldUpBy(); up != nil {
		s := up.staleness()
		if u.touched > u.goodRead || s.Since.IsZero() {
			s.Since = u.unreadSince()
		}
		return s
	}
	return Staleness{Since: u.unreadSince(), Text: u.blockingWords(), root: u}
}

// unreadSince is when the unit was first touched since its newest good run, or zero.
func (u *unit) unreadSince() Moment {
	if u.touched > u.goodRead {
		return u.staleSince
	}
	return Moment{}
}

// blockingWords says what keeps a unit, and all that wait for it, from the newest
// code.
func (u *unit) blockingWords() string {
	name := u.spec.Name
	switch {
	case u.state.Broken():
		return name + " " + u.state.String()
	case u.gone != "":
		return u.gone + " is missing, which " + name + " makes"
	case u.narrowed != "":
		return name + " " + u.narrowedWords()
	case u.paused:
		return name + " is paused" + u.onResume()
	case u.obstacle != nil && u.obstacle.on == nil, u.stirring() && !u.moving && u.wanted:
		return "all reactions are paused" + u.onResume()
	case u.missedPass():
		return name + " " + u.missedWords()
	case u.onlyWhenAsked() && u.run != nil:
		return name + " runs only when asked"
	case !u.owed.empty() && u.state == Done:
		return name + " still has to run " + u.owed.texts(u.spec)[0]
	case u.state == Stopped:
		return name + " is stopped"
	case u.state == Idle:
		return name + " was not started"
	}
	return name + " is " + u.state.String()
}

// onResume says what the unit will do when reactions are resumed; empty: nothing that is known.
func (u *unit) onResume() string {
	if u.pending == nil || len(u.pending.reasons) == 0 {
		return ""
	}
	return "; on resume " + u.spec.Name + " " + u.spec.Verb() + ": " + sentence(u.pending.reasons)
}

// heldUpBy returns the unit upstream that this one cannot get past, or nil.
func (u *unit) heldUpBy() *unit {
	if u.state.Broken() || u.paused {
		return nil
	}
	if u.obstacle != nil {
		return u.obstacle.on
	}
	for _, f := range u.follows {
		if !f.upToDate {
			return f
		}
	}
	return nil
}

func (u *unit) narrowedWords() string { return "is narrowed to " + u.narrowed }

func (u *unit) brokenWords() string {
	if u.run == nil {
		return u.spec.Name + " " + u.state.String()
	}
	switch words := u.reportWords(); {
	case words == "":
	case u.state == Crashed:
		return u.spec.Name + " " + u.state.String() + " (" + u.run.Exit.words() + "): " + words
	default:
		return u.spec.Name + ": " + words
	}
	detail := u.run.Problem
	if detail == "" {
		detail = u.run.Exit.words()
	}
	return u.spec.Name + " " + u.state.String() + " (" + detail + ")"
}
