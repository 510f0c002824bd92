package results

import (
	"testing"

	"github.com/charmbracelet/x/ansi"
	"github.com/stretchr/testify/assert"
)

// TestKeepEnd cuts locations whose names have any width; the line number remains.
func TestKeepEnd(t *testing.T) {
	for _, text := range []string{"short.go:7", "harbour/berths/tides/deep.go:12345", "港/潮汐/泊位/船票/渡轮.go:120",
		"x港/潮汐/泊位/船票/渡轮.go:120"} {
		for width := 10; width < 20; width++ {
			got := keepEnd(text, width)
			assert.LessOrEqual(t, ansi.StringWidth(got), width, text)
			assert.Equal(t, text[len(text)-5:], got[len(got)-5:], "at %d: %s", width, got)
		}
	}
}
