package api

// Tone is the meaning that something has for the user, of which each has a color; empty for none.
type Tone string

const (
	ToneCurrent Tone = "current"
	ToneMoving  Tone = "moving"
	ToneStale   Tone = "stale"
	ToneBroken  Tone = "broken"
)

// Tone is what a ripple's outcome means; an open one is moving.
func (o Outcome) Tone() Tone {
	switch o {
	case EndedCurrent:
		return ToneCurrent
	case EndedStale:
		return ToneStale
	case EndedBroken:
		return ToneBroken
	}
	return ToneMoving
}

// Tone is what a verdict means; a stopped project has none.
func (w VerdictWord) Tone() Tone {
	switch w {
	case VerdictCurrent:
		return ToneCurrent
	case VerdictUpdating:
		return ToneMoving
	case VerdictStale:
		return ToneStale
	case VerdictBroken:
		return ToneBroken
	}
	return ""
}

// Tone is what a unit's state means. What hurts most comes first.
func (u *Unit) Tone() Tone {
	switch {
	case u.State.Broken():
		return ToneBroken
	case u.Freshness == Stale:
		return ToneStale
	case u.Moving:
		return ToneMoving
	case u.Freshness == Current:
		return ToneCurrent
	}
	return ""
}
