package repository

import (
	"fmt"
	"time"
)

// While version control holds its lock, it is changing files one after another, and what it has written so far is of
// no use.
const (
	holdTold  = time.Second      // after which a notice tells what is being waited for
	holdLimit = 30 * time.Second // after which the lock counts as abandoned
)

// LockWait is waiting for version control.
type LockWait struct {
	since  time.Time // zero: not waiting
	told   bool
	behind string // a lock that was waited for in vain
}

// Decide returns whether changes wait for the lock, and a message for the user.
func (h *LockWait) Decide(now time.Time, lock string, held bool) (text string, wait bool) {
	switch {
	case !held:
		*h = LockWait{}
		return "", false
	case h.behind == lock:
		return "", false
	case h.since.IsZero():
		h.since = now
	case now.Sub(h.since) > holdLimit:
		h.behind, h.since = lock, time.Time{}
		return fmt.Sprintf(
			"version control has held %s for %s: changes wait for it no longer; if nothing is at work there, delete it",
			lock,
			holdLimit,
		), false
	case now.Sub(h.since) > holdTold && !h.told:
		h.told = true
		return fmt.Sprintf(
			"version control is at work (%s): changes wait until it has finished, %s at most",
			lock,
			holdLimit,
		), true
	}
	return "", true
}

// Waits reports whether a lock is being waited for.
func (h *LockWait) Waits() bool { return !h.since.IsZero() }
