package draw

import (
	"image/color"

	"omnivigil/internal/api"
	"omnivigil/internal/text/theme"
)

// outcomeInk is the colour of how a ripple ended.
func outcomeInk(o api.Outcome) color.RGBA {
	switch o {
	case api.EndedCurrent:
		return on(theme.Current)
	case api.EndedStale:
		return on(theme.Stale)
	case api.EndedBroken:
		return on(theme.Broken)
	}
	return on(theme.Moving)
}

func verdictInk(w api.VerdictWord) color.RGBA {
	switch w {
	case api.VerdictCurrent:
		return on(theme.Current)
	case api.VerdictStale:
		return on(theme.Stale)
	case api.VerdictBroken:
		return on(theme.Broken)
	case api.VerdictUpdating:
		return on(theme.Moving)
	}
	return grey
}

// stateInk is the colour of a unit's state.
func stateInk(u *api.Unit) color.RGBA {
	switch {
	case u.State.Broken():
		return on(theme.Broken)
	case u.Freshness == api.Stale:
		return on(theme.Stale)
	case u.Moving:
		return on(theme.Moving)
	case u.Freshness == api.Current:
		return on(theme.Current)
	}
	return grey
}
