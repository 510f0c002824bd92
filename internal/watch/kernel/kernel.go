// Package kernel reports what happens in single directories, as the operating system reports it: inotify(7) on Linux,
// fsnotify elsewhere. It knows nothing of patterns, trees or bursts. Start reading at Source.
package kernel

import "errors"

// Source reports what happens in single folders. There is one implementation for
// Linux, and one for other systems.
type Source interface {
	// add watches a folder, or a single file. The same one by another path has the
	// same id. The error is ErrLimit where the system allows no more.
	Add(path string) (ID, error)
	Remove(id ID)
	// batches gives notices in the order of their happening. It is closed when none will come any
	// more; failure says why then.
	Batches() <-chan []Notice
	Failure() error
	// CatchUp returns a function that reports whether everything that happened before CatchUp was
	// called has been given to batches, however much happens since.
	CatchUp() (done func() bool)
	// quiet reports whether nothing that the system has told is still to be given to batches.
	Quiet() bool
	Close()
}

type ID int

// Notice says that something may have happened to a name in a watched folder.
type Notice struct {
	ID   ID
	Name string // empty where the folder itself is meant
	What Signs
}

// Signs are what a notice says. They tell where to look; what is so is seen there.
type Signs uint16

const (
	Wrote      Signs = 1 << iota // contents changed
	Closed                       // who wrote it has closed it
	Appeared                     // it is there, and was not, or was another
	Altered                      // attributes changed, its times among them
	SelfMoved                    // the folder itself is no longer where it was
	Unwatched                    // nothing will be heard of this id again
	Overflowed                   // notices were lost

	// What the tree says to itself about a look that no notice led to.
	Missed   // notices may have been lost
	Polled   // no notices come of this folder
	Replaced // the folder is another than before
)

var ErrLimit = errors.New("the system allows no more watches")
