package listing

import (
	"bytes"
	"encoding/binary"
	"slices"
	"sync"
	"unsafe"

	"golang.org/x/sys/unix"

	"omnivigil/internal/watch/stamp"
)

// buffer is what directories are read into. A read of the system returns as many entries as fit.
type buffer struct {
	records [32 << 10]byte
	names   []byte
	ends    []int // of the names
	kinds   []stamp.Kind
}

var buffers = sync.Pool{New: func() any { return new(buffer) }}

// Read returns the identity of the directory at a path, and its entries in no particular order.
func Read(path string) (id stamp.Identity, entries []Entry, err error) {
	const flags = unix.O_RDONLY | unix.O_DIRECTORY | unix.O_CLOEXEC
	fd, err := stamp.Retried(func() (int, error) { return unix.Open(path, flags, 0) })
	switch err {
	case nil:
	case unix.ENOTDIR:
		return id, nil, errNoDirectory
	default:
		return id, nil, err
	}
	defer unix.Close(fd)
	if id, err = stamp.IdentityOf(fd); err != nil {
		return id, nil, err
	}
	b := buffers.Get().(*buffer)
	defer buffers.Put(b)
	for {
		n, err := stamp.Retried(func() (int, error) { return unix.Getdents(fd, b.records[:]) })
		if err != nil || n <= 0 {
			return id, entries, err
		}
		entries = b.parse(path, b.records[:n], entries)
	}
}

// parse adds the entries in what the system has returned (getdents64(2)). Their names are parts of one string, which
// costs less than a string for each.
func (b *buffer) parse(path string, records []byte, entries []Entry) []Entry {
	const (
		lengthAt = int(unsafe.Offsetof(unix.Dirent{}.Reclen))
		kindAt   = int(unsafe.Offsetof(unix.Dirent{}.Type))
		nameAt   = int(unsafe.Offsetof(unix.Dirent{}.Name))
	)
	b.names, b.ends, b.kinds = b.names[:0], b.ends[:0], b.kinds[:0]
	for len(records) > nameAt {
		length := int(binary.NativeEndian.Uint16(records[lengthAt:]))
		if length <= nameAt || length > len(records) {
			break
		}
		name, _, _ := bytes.Cut(records[nameAt:length], []byte{0})
		kind := records[kindAt]
		if records = records[length:]; string(name) == "." || string(name) == ".." {
			continue
		}
		b.names = append(b.names, name...)
		b.ends = append(b.ends, len(b.names))
		b.kinds = append(b.kinds, kindOf(path, name, kind))
	}
	names, from := string(b.names), 0
	entries = slices.Grow(entries, len(b.ends))
	for i, end := range b.ends {
		entries = append(entries, Entry{names[from:end], b.kinds[i]})
		from = end
	}
	return entries
}

// kindOf is a kind as the system tells it; some file systems do not.
func kindOf(path string, name []byte, kind byte) stamp.Kind {
	switch kind {
	case unix.DT_REG:
		return stamp.File
	case unix.DT_DIR:
		return stamp.Directory
	case unix.DT_LNK:
		return stamp.Link
	case unix.DT_UNKNOWN:
		return stamp.Lstat(path + "/" + string(name)).Kind
	}
	return stamp.Absent
}
