package watch

import "errors"

// kernel tells of what happens in single folders. There is one implementation for
// Linux, and one for other systems.
type kernel interface {
	// add watches a folder, or a single file. The same one by another path has the
	// same id. The error is errLimit where the system allows no more.
	add(path string) (watchID, error)
	remove(id watchID)
	// batches gives notices in the order of their happening. It is closed when none will come any
	// more; failure says why then.
	batches() <-chan []notice
	failure() error
	// catchUp returns a function that reports whether everything that happened before catchUp was
	// called has been given to batches, however much happens since.
	catchUp() (done func() bool)
	// quiet reports whether nothing that the system has told is still to be given to batches.
	quiet() bool
	close()
}

type watchID int

// notice says that something may have happened to a name in a watched folder.
type notice struct {
	id   watchID
	name string // empty where the folder itself is meant
	what signs
}

// signs are what a notice says. They tell where to look; what is so is seen there.
type signs uint16

const (
	wrote      signs = 1 << iota // contents changed
	closed                       // who wrote it has closed it
	appeared                     // it is there, and was not, or was another
	altered                      // attributes changed, its times among them
	selfMoved                    // the folder itself is no longer where it was
	unwatched                    // nothing will be heard of this id again
	overflowed                   // notices were lost

	// What the tree says to itself about a look that no notice led to.
	missed   // notices may have been lost
	polled   // no notices come of this folder
	replaced // the folder is another than before
)

var errLimit = errors.New("the system allows no more watches")
