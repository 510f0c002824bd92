package draw

import (
	"image/color"

	"omnivigil/internal/api"
	"omnivigil/internal/text/theme"
)

// toneInk is the color of a tone.
func toneInk(t api.Tone) color.RGBA {
	switch t {
	case api.ToneCurrent:
		return on(theme.Current)
	case api.ToneMoving:
		return on(theme.Moving)
	case api.ToneStale:
		return on(theme.Stale)
	case api.ToneBroken:
		return on(theme.Broken)
	}
	return grey
}
