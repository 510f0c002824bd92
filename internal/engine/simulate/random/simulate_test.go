package random

import (
	"os"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRulesHold plays many seeds. OMNIVIGIL_SEEDS says how many, OMNIVIGIL_FIRST which one comes before all others.
func TestRulesHold(t *testing.T) {
	seeds := 1000
	if n, err := strconv.Atoi(os.Getenv("OMNIVIGIL_SEEDS")); err == nil {
		seeds = n
	}
	first, _ := strconv.Atoi(os.Getenv("OMNIVIGIL_FIRST"))
	steps := 0
	for n := range seeds {
		seed := n
		switch {
		case n == 0:
			seed = first
		case n <= first:
			seed = n - 1
		}
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
