//go:build !windows

package contents

import (
	"errors"
	"os"
	"path/filepath"

	"golang.org/x/sys/unix"
)

// lock prevents other processes from enforcing the limits until unlock is called. False: another one does.
func (s *Store) lock() (unlock func(), locked bool, err error) {
	if err := os.MkdirAll(s.dir, 0o700); err != nil {
		return nil, false, err
	}
	f, err := os.OpenFile(filepath.Join(s.dir, lockFile), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, false, err
	}
	err = unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB)
	if err != nil {
		f.Close()
		if errors.Is(err, unix.EWOULDBLOCK) {
			err = nil
		}
		return nil, false, err
	}
	return func() { f.Close() }, true, nil
}

// noFollow makes opening a link fail, and opening a pipe not wait for its other side.
const noFollow = unix.O_NOFOLLOW | unix.O_NONBLOCK
