package watch

import (
	"fmt"
	"time"
)

// While version control holds its lock, it is changing files one after the other,
// and what it has written so far is of no use.
const (
	holdLook = 20 * time.Millisecond // how often is looked whether it continues

	unreadLook = 200 * time.Microsecond // the same of what there is to hear
	holdTold   = time.Second            // when a notice says what it waits for
	holdLimit  = 30 * time.Second       // after which the lock is taken to be left behind
)

// lockWait is the waiting for version control.
type lockWait struct {
	since  time.Time // zero while there is none
	told   bool
	behind string // a lock that was waited for in vain
}

// decide returns whether changes wait for the lock, and what the user has to be
// told.
func (h *lockWait) decide(now time.Time, lock string, held bool) (text string, wait bool) {
	switch {
	case !held:
		*h = lockWait{}
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
