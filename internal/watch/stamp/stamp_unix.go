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
		m.ID = identityOf(s)
		m.Changed = changeTime(s)
		m.Links = int(s.Nlink)
	}
	return m
}

// IdentityOf is the identity of an open file, and IdentityAt that of what a path leads to; zero: nothing is there.
func IdentityOf(fd int) (Identity, error) {
	var s syscall.Stat_t
	_, err := Retried(func() (int, error) { return 0, syscall.Fstat(fd, &s) })
	return identityOf(&s), err
}

func IdentityAt(path string) Identity {
	var s syscall.Stat_t
	if _, err := Retried(func() (int, error) { return 0, syscall.Stat(path, &s) }); err != nil {
		return Identity{}
	}
	return identityOf(&s)
}

func identityOf(s *syscall.Stat_t) Identity { return Identity{uint64(s.Dev), s.Ino} }

// Retried repeats a call of the system while signals interrupt it.
func Retried(call func() (int, error)) (n int, err error) {
	for {
		if n, err = call(); err != syscall.EINTR {
			return n, err
		}
	}
}
