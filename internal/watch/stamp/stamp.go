// Package stamp is what a look at a file tells without reading it: whether it has become another file, and whether it
// may hold something else. A Mark is what the watcher remembers of a file, a Stamp what is stored about one.
package stamp

import (
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Mark is what is known of a file: enough to notice that it has changed.
type Mark struct {
	Studied  bool // the rest is set; a directory is first listed without looking at each file
	Soon     bool // it was looked at so soon after a change that another one might look the same
	ID       Identity
	size     int64
	modified int64 // the modification time, in nanoseconds since 1970
	Changed  int64 // the change time, which no program can set; 0: the system has none
	Links    int   // the number of names
}

// Identity distinguishes the files and directories of a system. It is zero if the system has none.
type Identity struct{ Device, number uint64 }

// SoonAfter is how soon after a change a look is uncertain: file times are no finer than the tick of the system's
// clock.
const SoonAfter = 20 * time.Millisecond

// Differs reports whether a file with this mark has other contents now, as far as is known. A file that was never
// studied differs if it changed since its directory was listed.
func (m Mark) Differs(now Mark, read time.Time, onlyAttributes bool) bool {
	if !m.Studied {
		since := read.Add(-SoonAfter).UnixNano()
		return now.modified >= since || !onlyAttributes && now.Changed >= since
	}
	return m.ID != now.ID || m.size != now.size || m.modified != now.modified
}

// LastChange is the newest time of the file.
func (m Mark) LastChange() int64 { return max(m.modified, m.Changed) }

// Entry is what is at a path.
type Entry struct {
	Kind Kind
	Mark Mark
}

// Kind is the kind of file at a path.
type Kind uint8

const (
	Absent Kind = iota // nothing, or nothing that can have contents
	File
	Directory
	Link // only from lstat
)

// Lstat looks at a path, and Stat at the target of its links. A path that cannot be looked at counts as absent.
func Lstat(p string) Entry {
	info, err := os.Lstat(filepath.FromSlash(p))
	return entryOf(info, err)
}

func Stat(p string) Entry {
	info, err := os.Stat(filepath.FromSlash(p))
	return entryOf(info, err)
}

func entryOf(info fs.FileInfo, err error) Entry {
	if err != nil {
		return Entry{}
	}
	e := Entry{Mark: MarkOf(info)}
	since := time.Now().UnixNano() - e.Mark.LastChange()
	e.Mark.Studied, e.Mark.Soon = true, since >= 0 && since < int64(SoonAfter)
	switch {
	case info.Mode().IsRegular():
		e.Kind = File
	case info.IsDir():
		e.Kind = Directory
	case info.Mode()&fs.ModeSymlink != 0:
		e.Kind = Link
	}
	return e
}

// Stamp is what a look at a file tells without reading it. A file with the same stamp has the same contents, unless
// it was written within a tick of the system's clock.
type Stamp struct {
	Device, Number    uint64 // zero if the system has none
	Size              int64
	Modified, Changed int64 // nanoseconds since 1970; Changed cannot be set, and is 0 if there is none
}

// Of returns the stamp of a file.
func Of(info fs.FileInfo) Stamp {
	m := MarkOf(info)
	return Stamp{m.ID.Device, m.ID.number, m.size, m.modified, m.Changed}
}

// LastChange is the newest time of the stamp, in nanoseconds since 1970.
func (s Stamp) LastChange() int64 { return max(s.Modified, s.Changed) }
