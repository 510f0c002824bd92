//go:build !linux && !darwin

package stamp

import "io/fs"

// MarkOf returns the mark of a file.
func MarkOf(info fs.FileInfo) Mark {
	return Mark{size: info.Size(), modified: info.ModTime().UnixNano(), Links: 1}
}
