// Package location is the type of a location in a file, for all of Omnivigil: findings, failed tests, stack traces,
// links in output, and the contract with faces. It does not find locations; packages output/locate and results/source
// do. It is small because the contract and the core share it.
package location

import (
	"path/filepath"
	"strconv"
)

// Location is a location in a file. Its JSON is a part of the contract.
type Location struct {
	File   string `json:"file,omitempty"`   // absolute if the file was found, otherwise as it was written
	Line   int    `json:"line,omitempty"`   // from 1; 0: unknown
	Column int    `json:"column,omitempty"` // the same
}

// Text returns the location before a message, in the form of compilers: "berths.go:8:5: ". Without a file it is empty.
func (l Location) Text() string {
	if l.File == "" {
		return ""
	}
	return l.Place() + ": "
}

// Place returns the location by itself: "berths.go:8:5". Without a file it is empty.
func (l Location) Place() string {
	switch {
	case l.File == "", l.Line == 0:
		return l.File
	case l.Column == 0:
		return l.File + ":" + strconv.Itoa(l.Line)
	}
	return l.File + ":" + strconv.Itoa(l.Line) + ":" + strconv.Itoa(l.Column)
}

// From returns the location with its file relative to a directory, with forward slashes, if it is below that.
func (l Location) From(dir string) Location {
	if rel, err := filepath.Rel(dir, l.File); err == nil && l.File != "" && filepath.IsLocal(rel) {
		l.File = filepath.ToSlash(rel)
	}
	return l
}
