package pace

import (
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestPace lets a burst through, and then waits as long as little comes again and again.
func TestPace(t *testing.T) {
	p := Pace{Slow: 5 * time.Millisecond, Pause: 30 * time.Millisecond, Few: 100, Burst: 10}
	for range 9 {
		assert.Zero(t, p.After(0, 20))
	}
	assert.Equal(t, p.Pause, p.After(0, 20))
	for range 50 {
		assert.Equal(t, p.Pause, p.After(time.Millisecond, 20))
	}
	assert.Zero(t, p.After(time.Millisecond, 101), "much comes")
	assert.Equal(t, p.Pause, p.After(time.Millisecond, 20))
	assert.Zero(t, p.After(time.Second, 20), "it was quiet")
}
