// Package listing reads directories: the names in them and their kinds, without a look at each file.
package listing

import (
	"errors"

	"omnivigil/internal/watch/stamp"
)

// Entry is an entry of a directory. Its kind is stamp.Absent if it is neither a file nor a directory nor a symbolic
// link.
type Entry struct {
	Name string
	Kind stamp.Kind
}

var errNoDirectory = errors.New("not a directory")
