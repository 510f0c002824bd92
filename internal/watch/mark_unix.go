//go:build linux || darwin

package watch

import (
	"io/fs"
	"syscall"
)

func markOf(info fs.FileInfo) mark {
	m := mark{size: info.Size(), modified: info.ModTime().UnixNano(), links: 1}
	if s, ok := info.Sys().(*syscall.Stat_t); ok {
		m.id = identity{uint64(s.Dev), s.Ino}
		m.changed = changeTime(s)
		m.links = int(s.Nlink)
	}
	return m
}
