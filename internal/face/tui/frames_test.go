package tui

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestPace lets a few frames for keys come at once, and then no more than others.
func TestPace(t *testing.T) {
	var p pace
	now := time.Now()
	for range burst {
		assert.LessOrEqual(t, p.rest(now), time.Duration(0))
		p.drawn(now)
	}
	assert.Equal(t, pauseBetween, p.rest(now))
	now = now.Add(pauseBetween)
	assert.Zero(t, p.rest(now))
	p.drawn(now)
	assert.Equal(t, pauseBetween, p.rest(now))
	now = now.Add(time.Minute)
	assert.Negative(t, p.rest(now))
}
