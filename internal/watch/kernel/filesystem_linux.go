package kernel

import "golang.org/x/sys/unix"

// sharedFileSystems are those on which others may change files without an event, by their numbers in statfs(2).
var sharedFileSystems = map[int64]string{
	unix.NFS_SUPER_MAGIC:  "nfs",
	unix.SMB_SUPER_MAGIC:  "smb",
	unix.CIFS_SUPER_MAGIC: "cifs",
	unix.SMB2_SUPER_MAGIC: "smb2",
	unix.V9FS_MAGIC:       "9p",
	unix.AFS_SUPER_MAGIC:  "afs",
	unix.CEPH_SUPER_MAGIC: "ceph",
	unix.FUSE_SUPER_MAGIC: "fuse",
	0x786f4256:            "vboxsf",
}

// SharedFileSystem returns the kind of file system that a directory is on, if it is a shared one.
func SharedFileSystem(dir string) (kind string, shared bool) {
	var s unix.Statfs_t
	if err := unix.Statfs(dir, &s); err != nil {
		return "", false
	}
	kind, shared = sharedFileSystems[int64(uint32(s.Type))]
	return kind, shared
}
