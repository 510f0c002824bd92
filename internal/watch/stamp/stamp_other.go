//go:build !linux && !darwin

package stamp

import "io/fs"

// MarkOf returns the mark of a file.
func MarkOf(info fs.FileInfo) Mark {
	return Mark{size: info.Size(), modified: info.ModTime().UnixNano(), Links: 1}
}

// IdentityAt is the identity of what a path leads to; this system has none.
func IdentityAt(string) Identity { return Identity{} }
