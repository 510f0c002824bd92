// Package theme has every color that Omnivigil uses, for dark and for light backgrounds, so that screens and pages
// show the same.
package theme

import "github.com/lucasb-eyer/go-colorful"

// Hue is a color on dark and on light backgrounds, as #rrggbb.
type Hue struct{ OnDark, OnLight string }

// OnAny is the color for an unknown background: with the same contrast to black and to white.
func (h Hue) OnAny() string {
	a, _ := colorful.Hex(h.OnDark)
	b, _ := colorful.Hex(h.OnLight)
	if Luminance(a) < Luminance(b) {
		a, b = b, a
	}
	least, most := 0.0, 1.0
	var c colorful.Color
	for range 20 {
		share := (least + most) / 2
		if c = a.BlendLab(b, share).Clamped(); Luminance(c) > halfway {
			least = share
		} else {
			most = share
		}
	}
	return c.Hex()
}

// halfway is the luminance with the same contrast to black and to white.
const halfway = 0.1791

// Luminance is the relative luminance of a color, from 0 to 1, as WCAG 2.1 defines it.
func Luminance(c colorful.Color) float64 {
	r, g, b := c.LinearRgb()
	return 0.2126*r + 0.7152*g + 0.0722*b
}

// Contrast is the contrast ratio of two colors, from 1 to 21, as WCAG 2.1 defines it.
func Contrast(a, b colorful.Color) float64 {
	l, m := Luminance(a), Luminance(b)
	return (max(l, m) + 0.05) / (min(l, m) + 0.05)
}

// The four meanings, and text without a meaning.
var (
	Current = Hue{"#5fcf9f", "#0a7a4b"}
	Moving  = Hue{"#64b5ff", "#0b5fb0"}
	Broken  = Hue{"#ff7575", "#b3201f"}
	Stale   = Hue{"#e8b04b", "#8a5800"}
	Dim     = Hue{"#8793ab", "#5f6b82"} // secondary text
	Faint   = Hue{"#53617b", "#a5aebf"} // rules; never text
)

// Units are the colors of units. They differ from the four meanings: there is no green, blue, red or amber among
// them.
var Units = []Hue{
	{"#c3a6ff", "#6b46c1"}, {"#8fd3d8", "#0f6b73"}, {"#f0a6ca", "#a13670"}, {"#b8c4d6", "#4a5a70"},
	{"#d8c7a3", "#75602f"}, {"#a7b6ff", "#4553b8"}, {"#cfa8a0", "#87483b"}, {"#c9a7b8", "#7a4a62"},
	{"#dcb3ee", "#85429c"}, {"#b9b3c4", "#5f5a6e"},
}
