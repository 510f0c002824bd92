package theme

import (
	"testing"

	"github.com/lucasb-eyer/go-colorful"
	"github.com/stretchr/testify/assert"
)

// TestHuesCanBeRead checks every color of text against the contrast required by WCAG 2.1 (1.4.3): 4.5 to 1 on dark
// and on light backgrounds, and 3 to 1 on both where the background is not known.
func TestHuesCanBeRead(t *testing.T) {
	dark, light := []string{"#000000", "#0b1220", "#1e1e1e"}, []string{"#ffffff", "#fafafa"}
	stands := func(color string, least float64, grounds ...string) {
		c, err := colorful.Hex(color)
		assert.NoError(t, err)
		for _, ground := range grounds {
			g, _ := colorful.Hex(ground)
			assert.GreaterOrEqual(t, Contrast(c, g), least, "%s on %s", color, ground)
		}
	}
	for _, h := range append([]Hue{Current, Moving, Broken, Stale, Dim}, Units...) {
		stands(h.OnDark, 4.5, dark...)
		stands(h.OnLight, 4.5, light...)
		stands(h.OnAny(), 3, append(light, dark...)...)
	}
	// White text stands on the colors for light and unknown backgrounds, dark text on those for dark backgrounds.
	for _, h := range []Hue{Current, Moving, Broken, Stale, Dim} {
		stands(h.OnLight, 4.5, "#ffffff")
		stands(h.OnAny(), 4.5, "#ffffff")
		stands(h.OnDark, 4.5, "#0b1220")
	}
}
