//go:build linux || darwin

package stamp

import (
	"io/fs"
	"syscall"
)

// MarkOf returns the mark of a file.
func MarkOf(info fs.FileInfo) Mark {
	m := Mark{size: info.Size(), modified: info.ModTime().UnixNano(), Links: 1}
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		m.ID = Identity{uint64(s.Dev), s.Ino}
		m.Changed = changeTime(s)
		m.Links = int(s.Nlink)
	}
	return m
}
