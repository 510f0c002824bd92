//go:build linux

package yield

import (
	"os"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestYield waits while a face asks, and no longer: also if the face is gone, or the clock was set.
func TestYield(t *testing.T) {
	ours, err := Create()
	require.NoError(t, err)
	theirs, err := Of(os.Getpid())
	require.NoError(t, err)
	synctest.Test(t, func(t *testing.T) {
		waits := func() time.Duration {
			began := time.Now()
			ours.Wait()
			return time.Since(began)
		}
		assert.Zero(t, waits())
		theirs.Ask()
		assert.Equal(t, Longest, waits(), "it never takes that back")
		assert.Zero(t, waits())
		theirs.Ask()
		time.AfterFunc(Longest/2, theirs.Done)
		assert.InDelta(t, Longest/2, waits(), float64(time.Millisecond))
		ours.until.Store(time.Now().Add(time.Hour).UnixNano())
		assert.Zero(t, waits())
	})
	var none *Page
	none.Ask()
	none.Wait()
	none.Done()
}
