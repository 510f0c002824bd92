// Package stamp is what a look at a file tells without reading it: whether it has become another file, and whether it
// may hold something else. A Mark is what the watcher remembers of a file, a Stamp what is stored about one.
package stamp

import (
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// Mark is what is known of a file: enough to see that it has become another.
type Mark struct {
	Studied  bool // the rest is set; a folder is first read without looking at each file
	Soon     bool // it was looked at so soon after a change that another might look the same
	ID       Identity
	size     int64
	modified int64 // when its contents were, nanoseconds since 1970
	Changed  int64 // when anything about it was, which no program can set; 0 where the system has none
	Links    int   // how many names it has
}

// Identity tells files and folders of a system apart. It is zero where the system
// has none.
type Identity struct{ Device, number uint64 }

// SoonAfter is how near to a change a look must be to be unsure: systems keep times
// no finer than their clock's tick.
const SoonAfter = 20 * time.Millisecond

// Differs reports whether a file that had this mark has other contents now, by all
// that is known. One that was never studied counts as other if it changed since its
// folder was read.
func (m Mark) Differs(now Mark, read time.Time, onlyAttributes bool) bool {
	if !m.Studied {
		since := read.Add(-SoonAfter).UnixNano()
		return now.modified >= since || !onlyAttributes && now.Changed >= since
	}
	return m.ID != now.ID || m.size != now.size || m.modified != now.modified
}

// LastChange is the newest time that the file tells.
func (m Mark) LastChange() int64 { return max(m.modified, m.Changed) }

// Entry is what is at a path.
type Entry struct {
	Kind Kind
	Mark Mark
}

// Kind is what a path leads to.
type Kind uint8

const (
	Absent Kind = iota // nothing, or nothing that can have contents
	File
	Directory
	Link // only from lstat
)

// Lstat looks at a path, and Stat where its links lead. A path that cannot be looked at
// is as good as absent.
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

// Stamp is what a look at a file tells without reading it. A file with the same stamp holds
// the same, unless it was written within a tick of the system's clock.
type Stamp struct {
	Device, Number    uint64 // zero where the system has none
	Size              int64
	Modified, Changed int64 // nanoseconds since 1970; Changed cannot be set, and is 0 where there is none
}

// Of returns the stamp of a file.
func Of(info fs.FileInfo) Stamp {
	m := MarkOf(info)
	return Stamp{m.ID.Device, m.ID.number, m.size, m.modified, m.Changed}
}

// LastChange is the newest time that the stamp tells, nanoseconds since 1970.
func (s Stamp) LastChange() int64 { return max(s.Modified, s.Changed) }
