package api

import "fmt"

// Hello is what a face asks for first, at /hello.
type Hello struct {
	Version int    `json:"version"`
	Session string `json:"session"`
}

// Root is the part of every path that names the contract's version.
var Root = fmt.Sprintf("/v%d", Version)

// Trouble is an error as it is sent.
type Trouble struct {
	Error string `json:"error"`
}

// BulkType is how faces of the same version take pages of lines: as encoding/gob has them,
// since JSON takes several times as long.
const BulkType = "application/x-omnivigil-gob"
