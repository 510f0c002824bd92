package draw

import (
	"image/color"

	"omnivigil/internal/api"
	"omnivigil/internal/hues"
)

// outcomeInk is the colour of how a ripple ended.
func outcomeInk(o api.Outcome) color.Color {
	switch o {
	case api.EndedCurrent:
		return on(hues.Current)
	case api.EndedStale:
		return on(hues.Stale)
	case api.EndedBroken:
		return on(hues.Broken)
	}
	return on(hues.Moving)
}

func verdictInk(w api.VerdictWord) color.Color {
	switch w {
	case api.VerdictCurrent:
		return on(hues.Current)
	case api.VerdictStale:
		return on(hues.Stale)
	case api.VerdictBroken:
		return on(hues.Broken)
	case api.VerdictUpdating:
		return on(hues.Moving)
	}
	return grey
}

// stateInk is the colour of a unit's state.
func stateInk(u *api.Unit) color.Color {
	switch {
	case u.State.Broken():
		return on(hues.Broken)
	case u.Freshness == api.Stale:
		return on(hues.Stale)
	case u.Moving:
		return on(hues.Moving)
	case u.Freshness == api.Current:
		return on(hues.Current)
	}
	return grey
}
