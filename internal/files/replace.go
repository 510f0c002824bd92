package files

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

// Replace writes a file with data and a mode, and replaces an earlier one. A reader sees the old contents or the new
// ones, never a part, and after it has returned, a power failure does not bring the old ones back. The directory must
// exist.
func Replace(path string, data []byte, mode fs.FileMode) error {
	return replace(path, mode, true, Bytes(data))
}

// ReplaceCache is Replace for what can be recreated: it does not wait for the disk. Only this user can read the file.
func ReplaceCache(path string, write func(io.Writer) error) error {
	return replace(path, 0o600, false, write)
}

// KeepCache is ReplaceCache in a directory that may not exist yet; it is created for this user only.
func KeepCache(path string, write func(io.Writer) error) error {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	return ReplaceCache(path, write)
}

// Bytes returns a function that writes data, for ReplaceCache.
func Bytes(data []byte) func(io.Writer) error {
	return func(w io.Writer) error {
		_, err := w.Write(data)
		return err
	}
}
