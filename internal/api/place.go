package api

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"path/filepath"
)

// Place is where a project's processes and its faces meet: a socket, and a lock that is
// held as long as anything of the project may run.
type Place struct{ Socket, Lock string }

// mostSocketPath is how many bytes a socket's path may have: sun_path of unix(7) has room
// for 108 with the byte that ends it; macOS has room for 104.
const mostSocketPath = 103

// PlaceOf returns the place of the project with that settings file, by its real path. It is
// in runtime, or where that is empty in state; if the path would be too long for a socket, or
// nothing can be written there, in a folder of this user's below /tmp.
func PlaceOf(file, runtime, state string) (Place, error) {
	abs, err := filepath.Abs(file)
	if err != nil {
		return Place{}, fmt.Errorf("find %s: %w", file, err)
	}
	sum := sha256.Sum256([]byte(realPath(abs)))
	name := hex.EncodeToString(sum[:8])
	folder := filepath.Join(state, "run")
	if runtime != "" {
		folder = filepath.Join(runtime, "omnivigil")
	}
	if len(filepath.Join(folder, name+".sock")) > mostSocketPath || !isWritable(folder) {
		of := sha256.Sum256([]byte(folder))
		folder = filepath.Join("/tmp", fmt.Sprintf("omnivigil-%d", os.Getuid()))
		name = hex.EncodeToString(of[:4]) + name
	}
	return Place{filepath.Join(folder, name+".sock"), filepath.Join(folder, name+".lock")}, nil
}

// realPath returns a path without symbolic links, as far as it is there: a project whose
// folder was deleted can still be ended.
func realPath(path string) string {
	real, err := filepath.EvalSymlinks(path)
	if dir := filepath.Dir(path); err != nil && dir != path {
		return filepath.Join(realPath(dir), filepath.Base(path))
	}
	return real
}

// prepare makes the place's folder, for this user alone.
func (p Place) prepare() error {
	folder := filepath.Dir(p.Socket)
	if err := os.MkdirAll(folder, 0o700); err != nil {
		return fmt.Errorf("make the folder of the socket: %w", err)
	}
	info, err := os.Lstat(folder)
	if err != nil {
		return fmt.Errorf("look at the folder of the socket: %w", err)
	}
	if !info.IsDir() || !ownedByUs(info) {
		return fmt.Errorf("the folder of the socket, %s, belongs to somebody else", folder)
	}
	if info.Mode().Perm() != 0o700 {
		if err := os.Chmod(folder, 0o700); err != nil {
			return fmt.Errorf("keep others out of the folder of the socket: %w", err)
		}
	}
	return nil
}

// Listen begins to listen at the place, which the caller has locked. Only this user can
// connect. A socket that was left behind is replaced.
func (p Place) Listen() (net.Listener, error) {
	if err := p.prepare(); err != nil {
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
	return ownOnly{l}, nil
}

// ownOnly accepts connections of this user's processes alone.
type ownOnly struct{ net.Listener }

func (l ownOnly) Accept() (net.Conn, error) {
	for {
		c, err := l.Listener.Accept()
		if err != nil || isOurs(c) {
			return c, err
		}
		c.Close()
	}
}

// ErrLocked says that something of the project still runs.
var ErrLocked = errors.New("the project runs already")

// TryLock takes the lock, which is free again when the file, and every copy of it that
// other processes have inherited, is closed. It returns ErrLocked where another has it.
func (p Place) TryLock() (*os.File, error) {
	if err := p.prepare(); err != nil {
		return nil, err
	}
	f, err := os.OpenFile(p.Lock, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("open the project's lock: %w", err)
	}
	if err := lock(f); err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}
