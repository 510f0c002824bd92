package database

import (
	"path/filepath"
	"slices"

	"golang.org/x/sys/unix"
)

// remote are the magic numbers of file systems whose files several machines may share (statfs(2)): NFS, SMB, CIFS, 9P,
// FUSE, Ceph, AFS, Coda.
var remote = []int64{
	0x6969, 0x517b, 0xff534d42, 0xfe534d42, 0x01021997, 0x65735546, 0x00c36400, 0x5346414f, 0x73757245,
}

// SharesMemory reports whether processes that map a file share its memory, as SQLite's write-ahead log requires
// (https://sqlite.org/wal.html).
func SharesMemory(file string) bool {
	var s unix.Statfs_t
	if unix.Statfs(filepath.Dir(file), &s) != nil {
		return false
	}
	return !slices.Contains(remote, int64(uint32(s.Type)))
}
