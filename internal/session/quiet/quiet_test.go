package quiet

import (
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/assert"
)

func TestQuiet(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		var m Moment
		assert.False(t, m.Holds())
		assert.Nil(t, m.Over())
		m.Begin()
		assert.True(t, m.Holds())
		began := time.Now()
		<-m.Over()
		assert.Equal(t, quietFor, time.Since(began))
		assert.False(t, m.Holds())

		// Processes that are started all the time do not keep faces from being told.
		m.Told()
		began = time.Now()
		for m.Begin(); m.Holds(); m.Begin() {
			time.Sleep(time.Millisecond)
		}
		assert.Equal(t, quietMost, time.Since(began))
		m.Told()
		assert.Nil(t, m.Over())
	})
}
