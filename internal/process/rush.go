package process

import (
	"runtime"
	"sync"
	"time"
)

// A rush is when more processes write without pause than there are processors. Each time a reader wakes up, it takes a
// processor from a writer, so then readers let bytes come together for a moment, which no writer has to wait for. With
// fewer writers, a reader that pauses would be what they wait for.
type rush struct {
	mu          sync.Mutex
	window      int64 // the current one, from its number
	now, before int   // how many processes have written without pause in it, and in the one before
}

const (
	// withoutPause is how long a process that writes without pause lets its reader wait at most, while the processors
	// are its own. It is longer than the system takes to pass bytes on.
	withoutPause = time.Millisecond
	// gatherFor is how long bytes come together in a rush: much shorter than a frame of a screen.
	gatherFor = time.Millisecond
	// rushWindow is how long a process counts that has written without pause. With twenty writers on two processors,
	// each has its turn in this time.
	rushWindow = 100 * time.Millisecond
)

// wrote counts a process that has written without pause, whose last window is seen, and reports whether there is a
// rush.
func (r *rush) wrote(at time.Time, seen *int64) bool {
	r.mu.Lock()
	defer r.mu.Unlock()
	if w := at.UnixNano() / int64(rushWindow); w != r.window {
		if r.before = r.now; w != r.window+1 {
			r.before = 0
		}
		r.window, r.now = w, 0
	}
	if *seen != r.window {
		*seen = r.window
		r.now++
	}
	return max(r.now, r.before) > runtime.GOMAXPROCS(0)
}
