// Package ahead looks at directories on other processors before a tree comes to them: most of the time that a large
// tree takes is spent in the system. Start reading at Looks.
package ahead

import (
	"errors"
	"runtime"
	"slices"
	"sync"
	"time"

	"omnivigil/internal/watch/kernel"
	"omnivigil/internal/watch/listing"
	"omnivigil/internal/watch/stamp"
)

// Look is the first look at a directory: it is watched, and then its entries are read, so that what appears in between
// is reported.
type Look struct {
	path   string
	kernel kernel.Source
	begun  bool // it is looked at before the tree comes to it, or may be
	done   sync.WaitGroup

	Began    time.Time
	ID       stamp.Identity
	Watch    kernel.ID // if it was to be watched, and WatchErr is nil
	WatchErr error
	Entries  []listing.Entry
	Err      error // why the directory could not be read
}

// ErrReplaced is returned if another directory took the path while it was looked at.
var ErrReplaced = errors.New("another directory is there now")

// At returns a look at a directory that has yet to be taken. It is watched with a source, or not at all.
func At(path string, source kernel.Source) *Look {
	l := &Look{path: path, kernel: source}
	l.done.Add(1)
	return l
}

// Watches reports whether the directory was to be watched.
func (l *Look) Watches() bool { return l.kernel != nil }

func (l *Look) look() {
	defer l.done.Done()
	l.Began = time.Now()
	l.ID = stamp.IdentityAt(l.path)
	if l.kernel != nil {
		l.Watch, l.WatchErr = l.kernel.Add(l.path)
	}
	var id stamp.Identity
	if id, l.Entries, l.Err = listing.Read(l.path); l.Err == nil && id != l.ID {
		l.Err = ErrReplaced
	}
}

// Looks are the looks of a tree, which takes one after another. The zero value is ready for use.
type Looks struct {
	mu      sync.Mutex
	due     []*Look // the tree comes to the last one first
	working int
	ahead   int // how many have been begun before the tree came to them
}

// maxAhead limits how many directories are kept in memory before the tree comes to them.
const maxAhead = 256

// Begin makes looks due, which must be taken in this order, those that are made due in between first.
func (a *Looks) Begin(due []*Look) {
	a.mu.Lock()
	defer a.mu.Unlock()
	for _, l := range slices.Backward(due) {
		l.begun = true
		a.due = append(a.due, l)
	}
	a.employ()
}

// Take waits until a directory was looked at, or looks if nobody does. It must not be called at the same time as itself
// or Begin.
func (a *Looks) Take(l *Look) {
	if !l.begun {
		l.look()
		return
	}
	a.mu.Lock()
	if last := len(a.due) - 1; last >= 0 && a.due[last] == l {
		a.due = a.due[:last]
		a.mu.Unlock()
		l.look()
		return
	}
	a.mu.Unlock()
	l.done.Wait()
	a.mu.Lock()
	defer a.mu.Unlock()
	a.ahead--
	a.employ()
}

// employ lets so many goroutines look as there are processors. The caller holds the lock.
func (a *Looks) employ() {
	for a.working < min(runtime.GOMAXPROCS(0), len(a.due), maxAhead-a.ahead) {
		a.working++
		go a.work()
	}
}

func (a *Looks) work() {
	for l := a.next(); l != nil; l = a.next() {
		l.look()
	}
}

// next returns the look that is needed first; nil: there is none, or enough was looked at.
func (a *Looks) next() *Look {
	a.mu.Lock()
	defer a.mu.Unlock()
	last := len(a.due) - 1
	if last < 0 || a.ahead == maxAhead {
		a.working--
		return nil
	}
	l := a.due[last]
	a.due = a.due[:last]
	a.ahead++
	return l
}
