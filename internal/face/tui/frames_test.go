package tui

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestAllowance lets a few frames for keys come at once, and then no more than others.
func TestAllowance(t *testing.T) {
	var a allowance
	now := time.Now()
	for range burst {
		assert.LessOrEqual(t, a.rest(now), time.Duration(0))
		a.drawn(now)
	}
	assert.Equal(t, pauseBetween, a.rest(now))
	now = now.Add(pauseBetween)
	assert.Zero(t, a.rest(now))
	a.drawn(now)
	assert.Equal(t, pauseBetween, a.rest(now))
	now = now.Add(time.Minute)
	assert.Negative(t, a.rest(now))
}
