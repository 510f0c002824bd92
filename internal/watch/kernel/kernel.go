// Package kernel reports what happens in single directories, as the operating system reports it: inotify(7) on Linux,
// fsnotify elsewhere. It knows nothing of patterns, trees or bursts. Start reading at Source.
package kernel

import "errors"

// Source reports what happens in single directories. There is one implementation for Linux, and one for other
// systems.
type Source interface {
	// Add watches a directory, or a single file. The same one under another path gets the same id. The error is
	// ErrLimit if the system allows no more.
	Add(path string) (ID, error)
	Remove(id ID)
	// Batches delivers notices in the order of the events. It is closed when there will be no more; Failure returns
	// the reason.
	Batches() <-chan []Notice
	Failure() error
	// CatchUp returns a function that reports whether everything that happened before this call has been delivered to
	// Batches, no matter how much happens since.
	CatchUp() (done func() bool)
	// Quiet reports whether everything that the system has reported has been delivered to Batches.
	Quiet() bool
	Close()
}

type ID int

// Notice reports that something may have happened to a name in a watched directory.
type Notice struct {
	ID   ID
	Name string // empty: the directory itself
	What Signs
}

// Signs are what a notice reports. They tell where to look; the look tells what is so.
type Signs uint16

const (
	Wrote      Signs = 1 << iota // contents changed
	Closed                       // its writer has closed it
	Appeared                     // it is new, or was another before
	Altered                      // attributes changed, such as times
	SelfMoved                    // the directory itself has moved
	Unwatched                    // there will be no more notices of this id
	Overflowed                   // notices were lost

	// Signs for looks of the tree that no notice has caused:
	Missed   // notices may have been lost
	Polled   // the directory is polled
	Replaced // the directory is another one than before
)

var ErrLimit = errors.New("the system allows no more watches")
