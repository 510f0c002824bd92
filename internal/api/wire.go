package api

import "fmt"

// Hello is the answer to a face's first request, /hello.
type Hello struct {
	Version int    `json:"version"`
	Session string `json:"session"`
}

// Root is the beginning of every path, with the contract's version.
var Root = fmt.Sprintf("/v%d", Version)

// Trouble is an error as it is sent.
type Trouble struct {
	Error string `json:"error"`
}

// BulkType is the content type of pages of lines for faces of the same version: encoding/gob, because JSON takes
// several times as long.
const BulkType = "application/x-omnivigil-gob"
