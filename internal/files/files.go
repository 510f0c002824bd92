// Package files opens and reads only regular files, and replaces files as a whole. A name in the settings may lead to
// a pipe, a device or a directory; reading such a thing would block or never end.
package files

import (
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"path"
	"path/filepath"
)

// Sane is the maximum size, in bytes, of a file that users write by hand: settings, env files, ignore files.
const Sane = 4_000_000

// Open opens a file for reading. It never blocks: if the path does not lead to a regular file, the error, an
// *fs.PathError, tells what it is.
func Open(path string) (*os.File, error) {
	f, err := os.OpenFile(path, os.O_RDONLY|nonblock, 0)
	if err != nil {
		return nil, err
	}
	info, err := f.Stat()
	if err == nil {
		err = refusal(info.Mode())
	}
	if err != nil {
		f.Close()
		return nil, &fs.PathError{Op: "read", Path: path, Err: err}
	}
	return f, nil
}

// Read returns the contents of a file of at most limit bytes. A larger file is an error.
func Read(path string, limit int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	data, err := io.ReadAll(io.LimitReader(f, limit+1))
	if err != nil {
		return nil, err
	}
	if int64(len(data)) > limit {
		return nil, &fs.PathError{Op: "read", Path: path, Err: fmt.Errorf("it is larger than %d MB", limit/1_000_000)}
	}
	return data, nil
}

// Reason returns why a file could not be read, without its path and the operation.
func Reason(err error) error {
	var at *fs.PathError
	if errors.As(err, &at) {
		return at.Err
	}
	return err
}

func refusal(mode fs.FileMode) error {
	switch {
	case mode.IsRegular():
		return nil
	case mode.IsDir():
		return errors.New("it is a directory, not a file")
	case mode&fs.ModeNamedPipe != 0:
		return errors.New("it is a pipe, not a file")
	case mode&fs.ModeDevice != 0:
		return errors.New("it is a device, not a file")
	case mode&fs.ModeSocket != 0:
		return errors.New("it is a socket, not a file")
	}
	return errors.New("it is not a regular file")
}

// Absolute returns a path, which may be relative to root, as a clean absolute one with forward slashes.
func Absolute(root, file string) string {
	if file = filepath.ToSlash(file); !path.IsAbs(file) {
		file = path.Join(root, file)
	}
	return path.Clean(file)
}

// Existing returns a path with forward slashes, or the nearest existing directory above it.
func Existing(p string) string {
	for {
		info, err := os.Stat(filepath.FromSlash(p))
		if err == nil && info.IsDir() || p == path.Dir(p) {
			return p
		}
		p = path.Dir(p)
	}
}
