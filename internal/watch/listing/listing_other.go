//go:build !linux

package listing

import (
	"io/fs"
	"os"
	"path/filepath"

	"omnivigil/internal/watch/stamp"
)

// Read returns the identity of the directory at a path, and its entries in no particular order.
func Read(path string) (id stamp.Identity, entries []Entry, err error) {
	dir, err := os.Open(filepath.FromSlash(path))
	if err != nil {
		return id, nil, err
	}
	defer dir.Close()
	info, err := dir.Stat()
	if err != nil {
		return id, nil, err
	}
	if !info.IsDir() {
		return id, nil, errNoDirectory
	}
	all, err := dir.ReadDir(-1)
	for _, e := range all {
		entries = append(entries, Entry{e.Name(), kindOf(e.Type())})
	}
	return stamp.MarkOf(info).ID, entries, err
}

func kindOf(mode fs.FileMode) stamp.Kind {
	switch {
	case mode.IsRegular():
		return stamp.File
	case mode.IsDir():
		return stamp.Directory
	case mode&fs.ModeSymlink != 0:
		return stamp.Link
	}
	return stamp.Absent
}
