//go:build unix

package socket

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"syscall"

	"golang.org/x/sys/unix"
)

func ownedByUs(info fs.FileInfo) bool {
	stat, ok := info.Sys().(*syscall.Stat_t)
	return ok && int(stat.Uid) == os.Getuid()
}

func flock(f *os.File) error {
	switch err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); {
	case errors.Is(err, unix.EWOULDBLOCK):
		return ErrLocked
	case err != nil:
		return fmt.Errorf("lock the project: %w", err)
	}
	return nil
}

// isWritable creates a directory, if it does not exist, and reports whether files can be created in it.
func isWritable(folder string) bool {
	return os.MkdirAll(folder, 0o700) == nil && unix.Access(folder, unix.W_OK|unix.X_OK) == nil
}
