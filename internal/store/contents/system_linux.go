package contents

import (
	"io/fs"
	"os"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// lastUse is when a content was last used.
func lastUse(info fs.FileInfo) time.Time {
	if s, is := info.Sys().(*syscall.Stat_t); is {
		return time.Unix(s.Atim.Unix())
	}
	return info.ModTime()
}

// cloneFile makes a file share the blocks of another one (ioctl_ficlone(2)).
func cloneFile(to, from *os.File) error {
	return unix.IoctlFileClone(int(to.Fd()), int(from.Fd()))
}
