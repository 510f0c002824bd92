package engine

import "slices"

// Freshness tells whether a unit runs the newest code that affects it.
type Freshness uint8

const (
	NoCode   Freshness = iota // it is not running and not enabled, or it is broken
	Current                   // it runs, or has run successfully with, the newest code
	Updating                  // it is becoming current
	Stale                     // it is not current, and will not become so by itself
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
		return Stale // it is held up for good, perhaps from the start
	case u.run != nil && (u.pending != nil || u.touched > u.lastRead()):
		return Stale
	}
	return NoCode
}

// Staleness is why a unit is stale.
type Staleness struct {
	Since Moment // the first save that it has not read; zero: it is stale for another reason
	Root  string // the unit whose state is the cause, perhaps itself
	Block Block  // what keeps that unit from the newest code
	// OnlyNarrowed: it is stale only because it is narrowed.
	OnlyNarrowed bool
}

// staleness finds what keeps a stale unit from the newest code, first in the unit itself and then in the units that
// it waits for.
func (u *unit) staleness() Staleness {
	root, since := u.root()
	return Staleness{Since: since, Root: root.spec.Name, Block: root.block(),
		OnlyNarrowed: root == u && u.onlyNarrowed()}
}

// root returns the unit whose state keeps this one from the newest code, and the first save that it has not read;
// zero: it has read all.
func (u *unit) root() (*unit, Moment) {
	up := u.heldUpBy()
	if up == nil {
		return u, u.unreadSince()
	}
	root, since := up.root()
	if u.touched > u.goodRead || since.IsZero() {
		since = u.unreadSince()
	}
	return root, since
}

// onlyNarrowed reports whether the unit would be current if it were not narrowed.
func (u *unit) onlyNarrowed() bool {
	return u.narrowed != "" && u.run != nil && u.run.narrowed == u.narrowed && u.pending == nil &&
		u.touched <= u.run.read
}

// unreadSince is when the unit was first touched after its newest good run; zero: it was not.
func (u *unit) unreadSince() Moment {
	if u.touched > u.goodRead {
		return u.staleSince
	}
	return Moment{}
}

// block returns what keeps a unit, and all that wait for it, from the newest code.
func (u *unit) block() Block {
	b := Block{Unit: u.spec.Name, State: u.state}
	switch {
	case u.state.Broken():
	case len(u.gone) > 0:
		b.Kind, b.Files = BlockOutputs, u.gone
	case u.narrowed != "":
		b.Kind, b.To = BlockNarrowed, u.narrowed
		if u.run != nil {
			b.NotRun = u.report.NotRun(u.run.Number)
		}
	case u.paused:
		b.Kind = BlockPaused
		b.Verb, b.Resume = u.onResume()
	case u.obstacle != nil && u.obstacle.on == nil, u.stirring() && !u.moving && u.wanted:
		b.Kind = BlockAll
		b.Verb, b.Resume = u.onResume()
	case u.missedPass():
		b.Kind, b.Since = BlockPass, u.staleSince.Wall
	case u.onlyWhenAsked() && u.run != nil:
		b.Kind = BlockManual
	case !u.owed.empty() && u.state == Done:
		b.Kind, b.Command = BlockOwed, u.owed.texts(u.spec)[0]
	case u.state == Idle:
		b.Kind = BlockNever
	}
	return b
}

// onResume returns what the unit will do when reactions are resumed, and why; no reasons: unknown.
func (u *unit) onResume() (verb string, why []Reason) {
	if u.pending == nil || len(u.pending.reasons) == 0 {
		return "", nil
	}
	return u.spec.Verb(), slices.Clone(u.pending.reasons)
}

// heldUpBy returns the unit upstream that holds this one up, or nil.
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
