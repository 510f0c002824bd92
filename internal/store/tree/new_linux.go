package tree

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// errNotNew reports that a file cannot be made as a new one.
var errNotNew = errors.New("it cannot be made without a name")

// newFile makes a file that does not exist yet in an open directory: it has no name until it is complete (open(2),
// O_TMPFILE), which takes half as many changes of the directory as renaming it. errNotNew: the file exists, or the file
// system cannot do that.
func newFile(in *os.File, name string, mode fs.FileMode, at time.Time, write func(*os.File) error) error {
	var there unix.Stat_t
	if unix.Fstatat(int(in.Fd()), name, &there, unix.AT_SYMLINK_NOFOLLOW) == nil {
		return errNotNew // before its content is written for nothing
	}
	fd, err := unix.Openat(int(in.Fd()), ".", unix.O_TMPFILE|unix.O_RDWR|unix.O_CLOEXEC, 0o600)
	if err != nil {
		return errNotNew
	}
	f := os.NewFile(uintptr(fd), name)
	defer f.Close()
	if err := write(f); err != nil {
		return err
	}
	if err := f.Chmod(mode); err != nil {
		return err
	}
	self := fmt.Sprintf("/proc/self/fd/%d", fd)
	spec := unix.NsecToTimespec(at.UnixNano())
	if err := unix.UtimesNanoAt(unix.AT_FDCWD, self, []unix.Timespec{spec, spec}, 0); err != nil {
		return err
	}
	if unix.Linkat(unix.AT_FDCWD, self, int(in.Fd()), name, unix.AT_SYMLINK_FOLLOW) != nil {
		return errNotNew
	}
	return nil
}
