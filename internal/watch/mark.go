package watch

import (
	"io/fs"
	"os"
	"path/filepath"
	"time"
)

// mark is what is known of a file: enough to see that it has become another.
type mark struct {
	studied  bool // the rest is set; a folder is first read without looking at each file
	soon     bool // it was looked at so soon after a change that another might look the same
	id       identity
	size     int64
	modified int64 // when its contents were, nanoseconds since 1970
	changed  int64 // when anything about it was, which no program can set; 0 where the system has none
	links    int   // how many names it has
}

// identity tells files and folders of a system apart. It is zero where the system
// has none.
type identity struct{ device, number uint64 }

// soonAfter is how near to a change a look must be to be unsure: systems keep times
// no finer than their clock's tick.
const soonAfter = 20 * time.Millisecond

// differs reports whether a file that had this mark has other contents now, by all
// that is known. One that was never studied counts as other if it changed since its
// folder was read.
func (m mark) differs(now mark, read time.Time, what signs) bool {
	if !m.studied {
		since := read.Add(-soonAfter).UnixNano()
		return now.modified >= since || what != altered && now.changed >= since
	}
	return m.id != now.id || m.size != now.size || m.modified != now.modified
}

// lastChange is the newest time that the file tells.
func (m mark) lastChange() int64 { return max(m.modified, m.changed) }

// entry is what stands at a path.
type entry struct {
	kind entryKind
	mark mark
}

type entryKind uint8

const (
	absent entryKind = iota // nothing, or nothing that can have contents
	isFile
	isFolder
	isLink // only from lstat
)

// lstat looks at a path, stat where its links lead. A path that cannot be looked at
// is as good as absent.
func lstat(p string) entry {
	info, err := os.Lstat(filepath.FromSlash(p))
	return entryOf(info, err)
}

func stat(p string) entry {
	info, err := os.Stat(filepath.FromSlash(p))
	return entryOf(info, err)
}

func entryOf(info fs.FileInfo, err error) entry {
	if err != nil {
		return entry{}
	}
	e := entry{mark: markOf(info)}
	since := time.Now().UnixNano() - e.mark.lastChange()
	e.mark.studied, e.mark.soon = true, since >= 0 && since < int64(soonAfter)
	switch {
	case info.Mode().IsRegular():
		e.kind = isFile
	case info.IsDir():
		e.kind = isFolder
	case info.Mode()&fs.ModeSymlink != 0:
		e.kind = isLink
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

// StampOf returns the stamp of a file.
func StampOf(info fs.FileInfo) Stamp {
	m := markOf(info)
	return Stamp{m.id.device, m.id.number, m.size, m.modified, m.changed}
}

// LastChange is the newest time that the stamp tells, nanoseconds since 1970.
func (s Stamp) LastChange() int64 { return max(s.Modified, s.Changed) }
