package process

import (
	"runtime"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestRush finds a rush while more processes than processors write without pause, and none a while later.
func TestRush(t *testing.T) {
	var r rush
	at := time.Unix(1_900_000_000, 0)
	windows := make([]int64, runtime.GOMAXPROCS(0)+1)
	for i := range windows {
		last := i == len(windows)-1
		assert.Equal(t, last, r.wrote(at, &windows[i]), "%d processes", i+1)
		assert.Equal(t, last, r.wrote(at, &windows[i]), "a process counts once")
	}
	assert.True(t, r.wrote(at.Add(rushWindow), &windows[0]), "it lasts until the end of the next window")
	assert.False(t, r.wrote(at.Add(2*rushWindow), &windows[0]))
	assert.False(t, r.wrote(at.Add(10*rushWindow), &windows[0]))
}
