package engine

import (
	"slices"
	"sort"
	"time"
)

// Verdict is the project's state in one word, with its reason.
type Verdict struct {
	Word VerdictWord
	Why  VerdictReason
	// Problem is the problem of the settings or of watching, as reported.
	Problem string
}

// VerdictWord is the verdict in one word.
type VerdictWord uint8

const (
	VerdictCurrent VerdictWord = iota
	VerdictUpdating
	VerdictStale
	VerdictBroken
	VerdictStopped // no unit is enabled
)

func (w VerdictWord) String() string {
	return [...]string{"CURRENT", "UPDATING", "STALE", "BROKEN", "STOPPED"}[w]
}

// VerdictReason is what decided the verdict.
type VerdictReason uint8

const (
	AllCurrent      VerdictReason = iota
	EverythingEnded               // the project has ended
	Quitting                      // units are being stopped: Standing.Moving, Standing.Ending
	UnitsBroken                   // Standing.Broken
	NotWatched                    // files are not watched: Problem
	UnitsMoving                   // Standing.Moving
	SettingsUnread                // settings were written that have not been read
	UnitsStale                    // Standing.Stale
	SettingsBroken                // the saved settings are invalid: Problem
	UnitsEnding                   // no unit is enabled, and some have not ended yet: Standing.Ending
	NothingWanted                 // no unit is enabled
)

// verdict weighs all units. A failure without another cause is broken and comes first; one that keeps a running unit
// on old code counts as that unit's staleness, because this is what hurts the user, except for a pass, whose error
// does. The verdict is current if and only if at least one unit is enabled, every enabled unit is current and at
// rest, the saved settings are in use, and files are watched.
func (e *Engine) verdict() Verdict {
	s := &e.standings
	switch {
	case e.gone:
		return Verdict{Word: VerdictStopped, Why: EverythingEnded}
	case e.quitting:
		return Verdict{Word: VerdictUpdating, Why: Quitting}
	case e.anyBroken():
		return Verdict{Word: VerdictBroken, Why: UnitsBroken}
	case e.unwatched != "" && s.wanted > 0:
		return Verdict{Word: VerdictStale, Why: NotWatched, Problem: e.unwatched}
	case len(s.moving) > 0:
		return Verdict{Word: VerdictUpdating, Why: UnitsMoving}
	case e.settingsPending():
		return Verdict{Word: VerdictUpdating, Why: SettingsUnread}
	case len(s.stale) > 0:
		return Verdict{Word: VerdictStale, Why: UnitsStale}
	case e.broken != "":
		return Verdict{Word: VerdictStale, Why: SettingsBroken, Problem: e.broken}
	case s.wanted == 0 && len(s.ending) > 0:
		return Verdict{Word: VerdictUpdating, Why: UnitsEnding}
	case s.wanted == 0:
		return Verdict{Word: VerdictStopped, Why: NothingWanted}
	}
	return Verdict{Word: VerdictCurrent, Why: AllCurrent}
}

// anyBroken reports whether a unit is broken that does not count as the cause of running old code.
func (e *Engine) anyBroken() bool {
	broken := e.standings.broken
	if len(broken) == 0 {
		return false
	}
	causes := map[*unit]bool{}
	for _, u := range e.standings.stale {
		if root, _ := u.root(); root != u && u.run != nil && root.spec.Pass == nil {
			causes[root] = true
		}
	}
	return slices.ContainsFunc(broken, func(u *unit) bool { return !causes[u] })
}

// Standing is what all units mean for the verdict. The lists are in the order of the file unless their comment says
// otherwise.
type Standing struct {
	Counted int // units that are enabled or live
	Wanted  int // units that are enabled
	Stopped int // units that were stopped by request

	Moving []*Unit   // enabled units that are not at rest
	Ending []*Unit   // the same for other units
	Stale  []*Unit   // enabled units that are stale and at rest
	Broken []Culprit // units that are broken and at rest, those that hold up most units first
	Loops  []*Unit   // units in a loop that the user has not accepted
	Paused []*Unit   // units that are paused by name
	Worded []*Unit   // units with arguments added by the user

	Errors, Warnings int // reported by the tools of enabled units
	Save             *LastSave
	StartedIn        time.Duration // how long the start took to come to rest
}

// Culprit is a broken unit with the number of other units that are stale because of it.
type Culprit struct {
	Unit    *Unit
	HoldsUp int
}

// LastSave is the newest save.
type LastSave struct {
	At      Moment
	Took    time.Duration // until everything was at rest
	Current bool          // everything was current then; otherwise a later run made it so, or nothing has
}

// standing returns what all units mean for the verdict; their views are up to date.
func (e *Engine) standing() Standing {
	s := &e.standings
	e.worded = slices.DeleteFunc(e.worded, func(u *unit) bool { return u.removed || len(u.words) == 0 })
	out := Standing{
		Counted: s.counted, Wanted: s.wanted, Stopped: s.stopped,
		Moving: s.show(s.moving), Ending: s.show(s.ending), Stale: s.show(s.stale), Loops: s.show(s.loops),
		Paused: s.show(s.paused), Worded: s.show(e.worded), Broken: e.culprits(), StartedIn: e.startedIn,
	}
	e.reports = slices.DeleteFunc(e.reports, func(u *unit) bool { return u.removed })
	for _, u := range e.reports {
		if u.wanted {
			out.Errors, out.Warnings = out.Errors+u.report.Errors, out.Warnings+u.report.Warnings
		}
	}
	if r := e.newest; r != nil {
		out.Save = &LastSave{At: r.Since, Took: r.RestAt.Sub(r.Since), Current: r.Outcome == EndedCurrent}
	}
	return out
}

// show returns the views of units.
func (s *standings) show(units []*unit) []*Unit {
	if len(units) == 0 {
		return nil
	}
	out := make([]*Unit, 0, len(units))
	for _, u := range units {
		if s.at(u) {
			out = append(out, s.shown[u.place])
		}
	}
	return out
}

// culprits returns the broken units, those that hold up most units first.
func (e *Engine) culprits() []Culprit {
	s := &e.standings
	if len(s.broken) == 0 {
		return nil
	}
	holdsUp := map[*unit]int{}
	for _, u := range s.stale {
		if root, _ := u.root(); root != u {
			holdsUp[root]++
		}
	}
	out := make([]Culprit, len(s.broken))
	for i, u := range s.broken {
		out[i] = Culprit{s.shown[u.place], holdsUp[u]}
	}
	sort.SliceStable(out, func(i, j int) bool { return out[i].HoldsUp > out[j].HoldsUp })
	return out
}

func (e *Engine) inFileOrder() []*unit {
	units := make([]*unit, 0, len(e.units))
	for _, spec := range e.plan.Units {
		units = append(units, e.byName[spec.Name])
	}
	return append(units, e.units[len(units):]...)
}

// Wait is what a moving unit waits for.
type Wait struct {
	Kind WaitKind
	// On is the unit, for WaitUnit and WaitFollow; for WaitLookout the possible writer of Files, empty for the unit
	// itself; otherwise what the unit's next run waits for, if it does.
	On    string
	Files []string  // WaitLookout
	Input string    // WaitInput: what it asks for
	Since time.Time // WaitPass: the save, on the wall clock
}

// WaitKind is the kind of what a unit waits for.
type WaitKind uint8

const (
	WaitNone    WaitKind = iota // nothing, or it is not moving
	WaitLookout                 // whether another writer writes its files
	WaitSettle                  // until files have settled
	WaitJob                     // for a job
	WaitUnit                    // for a unit that it needs or follows
	WaitInput                   // for input
	WaitPass                    // for a pass that picks up a save
	WaitFollow                  // for a unit that it follows, and then it acts
)

// wait returns what a unit waits for.
func (u *unit) wait() Wait {
	w := u.waitNow()
	if w.On == "" && w.Kind != WaitLookout && u.obstacle != nil && u.obstacle.on != nil {
		w.On = u.obstacle.on.spec.Name
	}
	return w
}

func (u *unit) waitNow() Wait {
	switch {
	case u.obstacle != nil && u.obstacle.lookout:
		return u.lookout()
	case u.obstacle != nil && u.obstacle.settles:
		return Wait{Kind: WaitSettle}
	case u.inLine():
		return Wait{Kind: WaitJob}
	case u.obstacle != nil && u.obstacle.on != nil && u.state != Running && u.state != Stopping:
		return Wait{Kind: WaitUnit, On: u.obstacle.on.spec.Name}
	case u.asksFor() != "":
		return Wait{Kind: WaitInput, Input: u.asksFor()}
	case !u.moving, u.state.InMotion():
		return Wait{}
	case u.awaitsPass():
		return Wait{Kind: WaitPass, Since: u.staleSince.Wall}
	}
	for _, f := range u.follows {
		if f.moving {
			return Wait{Kind: WaitFollow, On: f.spec.Name}
		}
	}
	return Wait{Kind: WaitSettle}
}

// asksFor is the input that the unit waits for before it can continue; empty: none.
func (u *unit) asksFor() string {
	if !u.live() || u.state != Running && u.state != Starting && u.state != Setup {
		return ""
	}
	return u.run.asksFor
}
