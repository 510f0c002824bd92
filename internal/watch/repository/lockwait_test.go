package repository

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
)

// TestHold checks that the wait for version control's lock is bounded.
func TestHold(t *testing.T) {
	var h LockWait
	at := func(s float64) time.Time { return time.Unix(0, 0).Add(time.Duration(s * float64(time.Second))) }
	decide := func(s float64, held bool) string {
		text, wait := h.Decide(at(s), "index.lock", held)
		return strings.TrimSpace(fmt.Sprint(wait, " ", strings.SplitN(text, ":", 2)[0]))
	}
	assert.Equal(t, "false", decide(0, false))
	assert.Equal(t, "true", decide(1, true))
	assert.Equal(t, "true version control is at work (index.lock)", decide(2.5, true))
	assert.Equal(t, "true", decide(20, true), "said once")
	assert.Equal(t, "false version control has held index.lock for 30s", decide(32, true))
	assert.Equal(t, "false", decide(33, true), "it was left behind")
	assert.Equal(t, "false", decide(40, false))
	assert.Equal(t, "true", decide(41, true), "another one is waited for again")
}
