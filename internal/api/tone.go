package api

// Tone is the meaning of something for the user. Each tone has a color; empty: none.
type Tone string

const (
	ToneCurrent Tone = "current"
	ToneMoving  Tone = "moving"
	ToneStale   Tone = "stale"
	ToneBroken  Tone = "broken"
)

// Tone is the meaning of a ripple's outcome; an open ripple is moving.
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

// Tone is the meaning of a verdict; a stopped project has none.
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

// Tone is the meaning of a unit's state. The worst applies.
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
