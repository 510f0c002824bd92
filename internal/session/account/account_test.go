package account

import (
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
)

// TestAccount asks for the newest facts, for those that are no longer kept, and for those to come.
func TestAccount(t *testing.T) {
	a := New()
	for range 2*keptFacts + 1 {
		a.Add(api.Fact{Kind: api.FactNote})
	}
	_, _, _, err := a.After(0)
	assert.ErrorIs(t, err, api.ErrGap, "the first are not kept any more")
	_, _, _, err = a.After(1e9)
	assert.ErrorIs(t, err, api.ErrGap, "there are not so many yet")
	facts, _, over, err := a.After(2 * keptFacts)
	require.NoError(t, err)
	require.Len(t, facts, 1)
	assert.Equal(t, int64(2*keptFacts+1), facts[0].ID)
	assert.False(t, over)
}
