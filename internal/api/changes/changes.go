// Package changes is the part of the contract that is about what was changed in files.
package changes

import (
	"time"

	"omnivigil/internal/text/diff"
)

// Query selects changes: of a ripple by its number or, without one, those since a unit last ran well.
type Query struct {
	Ripple int
	Unit   string
}

// Changes are the changes of text files that affect units.
type Changes struct {
	// Since is when the last good run of a unit began; zero: it has not run well in this session, so that the changes
	// are those since the session began.
	Since time.Time `json:"since,omitzero"`
	Files []File    `json:"files"`
	More  int       `json:"more,omitempty"` // files that are not in the list
	// Reverts is the ripple whose changes all of these take back; 0: none.
	Reverts int `json:"reverts,omitempty"`
}

// File is the change of a file.
type File struct {
	Path string `json:"path"` // relative to the project's directory
	Kind Kind   `json:"kind"`
	// Note is why its lines are not known; empty: they are.
	Note    string      `json:"note,omitempty"`
	Added   int         `json:"added"` // lines
	Removed int         `json:"removed"`
	Hunks   []diff.Hunk `json:"hunks,omitempty"`
	// Reverts is the newest earlier ripple whose change of the file this takes back; 0: none.
	Reverts int `json:"reverts,omitempty"`
}

// Kind is what has happened to a file.
type Kind string

const (
	Changed Kind = "changed"
	Added   Kind = "added"
	Removed Kind = "removed"
)

// MaxFiles is how many files are in a list.
const MaxFiles = 100
