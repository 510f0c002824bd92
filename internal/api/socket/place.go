// Package socket determines where a project listens, and lets exactly one supervisor listen there.
//
// A Place is the Unix socket and the lock of a project, derived from the path of its settings file. Listen and
// TryLock are for the supervisor, Dial is for clients. Both refuse directories that do not belong to this user alone.
// The protocol is in packages server and client.
package socket

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"strings"

	"omnivigil/internal/files"
)

// Place is where a project's processes and its faces meet: a socket, and a lock that is held as long as anything of
// the project may run. The lock is the same for all of this user's processes, in any environment; the socket is not.
type Place struct {
	File   string // the real path of the settings file
	Socket string
	Lock   string
	before string // the lock of versions that kept it next to the socket
}

// maxSocketPath is the maximum length of a socket's path in bytes: sun_path in unix(7) has room for 108 with the
// terminating byte; macOS has room for 104.
const maxSocketPath = 103

// PlaceOf returns the place of the project with a settings file, by its real path. The socket is in runtime or, if
// that is empty, in state; if the path would be too long for a socket, or the directory is not writable, in a
// directory of this user below /tmp. The lock is in the directory locks.
func PlaceOf(file, runtime, state, locks string) (Place, error) {
	abs, err := filepath.Abs(file)
	if err != nil {
		return Place{}, fmt.Errorf("find %s: %w", file, err)
	}
	file = realPath(abs)
	sum := sha256.Sum256([]byte(file))
	lock := filepath.Join(locks, hex.EncodeToString(sum[:16])+".lock")
	name := hex.EncodeToString(sum[:8])
	folder := filepath.Join(state, "run")
	if runtime != "" {
		folder = filepath.Join(runtime, "omnivigil")
	}
	if len(filepath.Join(folder, name+".sock")) > maxSocketPath || !isWritable(folder) {
		of := sha256.Sum256([]byte(folder))
		folder = filepath.Join("/tmp", fmt.Sprintf("omnivigil-%d", os.Getuid()))
		name = hex.EncodeToString(of[:4]) + name
	}
	return Place{
		File:   file,
		Socket: filepath.Join(folder, name+".sock"),
		Lock:   lock,
		before: filepath.Join(folder, name+".lock"),
	}, nil
}

// realPath returns a path without symbolic links, as far as it exists: a project whose directory was deleted can
// still be ended.
func realPath(path string) string {
	found, err := filepath.EvalSymlinks(path)
	if dir := filepath.Dir(path); err != nil && dir != path {
		return filepath.Join(realPath(dir), filepath.Base(path))
	}
	return found
}

// prepare creates a directory for this user only.
func prepare(folder string) error {
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("make the directory %s: %w", folder, err)
	}
	info, err := os.Lstat(folder)
	if err != nil {
		return fmt.Errorf("look at the directory %s: %w", folder, err)
	}
	if !info.IsDir() || !ownedByUs(info) {
		return &ForeignError{folder}
	}
	if info.Mode().Perm() != 0o700 {
		if err := os.Chmod(folder, 0o700); err != nil {
			return fmt.Errorf("keep others out of %s: %w", folder, err)
		}
	}
	return nil
}

// Listen starts listening at the place, which the caller has locked. Only this user can connect. A socket of an
// earlier process is replaced.
func (p Place) Listen() (net.Listener, error) {
	if err := prepare(filepath.Dir(p.Socket)); err != nil {
		return nil, err
	}
	if err := os.Remove(p.Socket); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, fmt.Errorf("remove an old socket: %w", err)
	}
	l, err := net.Listen("unix", p.Socket)
	if err != nil {
		return nil, fmt.Errorf("listen for faces: %w", err)
	}
	if err := os.Chmod(p.Socket, 0o600); err != nil {
		l.Close()
		return nil, fmt.Errorf("keep others from the socket: %w", err)
	}
	l.(*net.UnixListener).SetUnlinkOnClose(false) // by then the path may belong to another process
	made, err := os.Lstat(p.Socket)
	if err != nil {
		l.Close()
		return nil, fmt.Errorf("look at the socket: %w", err)
	}
	return ownOnly{l, made}, nil
}

// ownOnly accepts connections only from this user's processes.
type ownOnly struct {
	net.Listener
	made fs.FileInfo // the socket
}

// isThere reports whether the socket is still at that path.
func (l ownOnly) isThere(path string) bool {
	there, err := os.Lstat(path)
	return err == nil && os.SameFile(l.made, there)
}

func (l ownOnly) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil || isOurs(c) {
			return c, err
		}
		c.Close()
	}
}

// ErrNotRunning: no project runs at a place.
var ErrNotRunning = errors.New("the project is not running")

// ErrLocked: something of the project is still running.
var ErrLocked = errors.New("the project is already running")

// TryLock takes the lock. The lock is free again when the file, and every copy of it that other processes have
// inherited, is closed. It returns ErrLocked if another process has it. The file tells which project it is for, and
// where that listens.
func (p Place) TryLock() (*os.File, error) {
	if isLocked(p.before) {
		return nil, ErrLocked
	}
	if err := prepare(filepath.Dir(p.Lock)); err != nil {
		return nil, err
	}
	for {
		f, err := os.OpenFile(p.Lock, os.O_CREATE|os.O_RDWR, 0o600)
		if err != nil {
			return nil, fmt.Errorf("open the project's lock: %w", err)
		}
		if err := flock(f); err != nil {
			f.Close()
			return nil, err
		}
		if isAt(f, p.Lock) {
			err := f.Truncate(0)
			if err == nil {
				_, err = f.WriteAt([]byte(p.File+"\n"+p.Socket+"\n"), 0)
			}
			if err != nil {
				f.Close()
				return nil, fmt.Errorf("write the project's lock: %w", err)
			}
			return f, nil
		}
		f.Close() // it was removed before it was locked: another process may have created and locked the next one
	}
}

// isAt reports whether a file is the one at a path.
func isAt(f *os.File, path string) bool {
	have, err := f.Stat()
	if err != nil {
		return false
	}
	there, err := os.Lstat(path)
	return err == nil && os.SameFile(have, there)
}

// IsLocked reports whether something of the project is running, in this version or one that keeps its lock next to
// the socket.
func (p Place) IsLocked() bool { return isLocked(p.Lock) || isLocked(p.before) }

func isLocked(path string) bool {
	f, err := os.OpenFile(path, os.O_RDWR, 0)
	if err != nil {
		return false
	}
	defer f.Close()
	return errors.Is(flock(f), ErrLocked)
}

// Listening returns the place from the file of the lock: the holder's environment may be another.
func (p Place) Listening() Place {
	data, err := files.Read(p.Lock, files.Sane)
	if lines := strings.Split(string(data), "\n"); err == nil && len(lines) > 1 && filepath.IsAbs(lines[1]) {
		p.Socket = lines[1]
	}
	return p
}

// ForeignError: something that a face must trust belongs to another user.
type ForeignError struct{ Path string }

func (e *ForeignError) Error() string {
	return e.Path + " belongs to another user, so nothing there is trusted; remove it, or set XDG_RUNTIME_DIR to a " +
		"directory of your own"
}

// Trusted returns an error if the socket, or its directory, does not belong to this user.
func (p Place) Trusted() error {
	for _, path := range []string{filepath.Dir(p.Socket), p.Socket} {
		info, err := os.Lstat(path)
		switch {
		case errors.Is(err, fs.ErrNotExist):
			return ErrNotRunning
		case err != nil:
			return fmt.Errorf("look at %s: %w", path, err)
		case !ownedByUs(info) || info.Mode()&fs.ModeSymlink != 0:
			return &ForeignError{path}
		}
	}
	return nil
}

// Dial connects to the project's socket, and verifies that a process of this user is listening.
func (p Place) Dial(ctx context.Context) (net.Conn, error) {
	if err := p.Trusted(); err != nil {
		return nil, err
	}
	c, err := (&net.Dialer{}).DialContext(ctx, "unix", p.Socket)
	if err != nil {
		return nil, err
	}
	if !isOurs(c) {
		c.Close()
		return nil, &ForeignError{p.Socket}
	}
	return c, nil
}

// Keep creates the socket and the lock of this process again if they were removed. It returns what it created; nil:
// nothing.
func (p Place) Keep(l net.Listener, held *os.File) (again net.Listener, lock *os.File, err error) {
	if !isAt(held, p.Lock) {
		if lock, err = p.TryLock(); err != nil {
			return nil, nil, err
		}
	}
	if own, ok := l.(ownOnly); !ok || !own.isThere(p.Socket) {
		if again, err = p.Listen(); err != nil {
			return nil, lock, err
		}
	}
	return again, lock, nil
}

// maxSwept limits the locks that are checked at a time.
const maxSwept = 200

// SweepLocks removes locks of projects whose settings file no longer exists.
func SweepLocks(folder string) {
	locks, _ := filepath.Glob(filepath.Join(folder, "*.lock"))
	for _, path := range locks[:min(len(locks), maxSwept)] {
		data, err := files.Read(path, files.Sane)
		file, _, _ := strings.Cut(string(data), "\n")
		if _, gone := os.Lstat(file); err != nil || file == "" || !errors.Is(gone, fs.ErrNotExist) {
			continue
		}
		f, err := os.OpenFile(path, os.O_RDWR, 0)
		if err != nil {
			continue
		}
		if flock(f) == nil && isAt(f, path) {
			os.Remove(path)
		}
		f.Close()
	}
}

// Running returns the places of projects whose locks in a directory are held, as these tell them.
func Running(locks string) []Place {
	names, _ := filepath.Glob(filepath.Join(locks, "*.lock")) // the pattern is valid
	var all []Place
	for _, lock := range names {
		if !isLocked(lock) {
			continue
		}
		data, err := files.Read(lock, files.Sane)
		if file, _, is := strings.Cut(string(data), "\n"); err == nil && is && filepath.IsAbs(file) {
			all = append(all, Place{File: file, Lock: lock, before: lock}.Listening())
		}
	}
	return all
}
