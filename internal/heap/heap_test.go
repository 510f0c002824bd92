package heap

import (
	"runtime"
	"runtime/debug"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestKeep raises the limit while much is kept, and lowers it afterwards.
func TestKeep(t *testing.T) {
	percent, limit := debug.SetGCPercent(-1), debug.SetMemoryLimit(-1)
	defer func() {
		debug.SetGCPercent(percent)
		debug.SetMemoryLimit(limit)
	}()
	Keep()
	assert.EqualValues(t, least, debug.SetMemoryLimit(-1))
	until := func(right func(limit int64) bool) {
		require.Eventually(t, func() bool {
			runtime.GC()
			return right(debug.SetMemoryLimit(-1))
		}, time.Minute, 10*time.Millisecond)
	}
	kept := make([][]byte, 100)
	for i := range kept {
		kept[i] = make([]byte, 1<<20)
	}
	until(func(limit int64) bool { return limit >= 200<<20 })
	runtime.KeepAlive(kept)
	kept = nil
	until(func(limit int64) bool { return limit < 40<<20 })
}

// TestLimit leaves room where collections come often.
func TestLimit(t *testing.T) {
	const mb = 1 << 20
	assert.EqualValues(t, 32*mb, limitOf(5*mb, 0))
	assert.EqualValues(t, 80*mb, limitOf(40*mb, 10*time.Millisecond))
	assert.EqualValues(t, 50*mb, limitOf(40*mb, time.Minute))
}
