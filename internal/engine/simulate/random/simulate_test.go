package random

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRulesHold plays a thousand seeds; cmd/simulate plays any number.
func TestRulesHold(t *testing.T) {
	const seeds = 1000
	steps := 0
	for seed := range seeds {
		r := Play(uint64(seed), false)
		steps += r.Steps
		require.Empty(t, r.Broken, "seed %d, %d units", seed, r.Units)
	}
	t.Logf("%d seeds, %d steps", seeds, steps)
}

func TestSameSeedSameStory(t *testing.T) {
	a, b := Play(7, true), Play(7, true)
	require.Equal(t, a.Story, b.Story)
	require.Greater(t, len(a.Story), 50)
}
