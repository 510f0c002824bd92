//go:build !windows

package files

import (
	"io"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/google/renameio/v2"
)

func replace(path string, mode fs.FileMode, synced bool, write func(io.Writer) error) error {
	// The new file is next to the old one from the start; by default, two more files would be created to find out
	// whether the system's temporary directory is on the same disk.
	beside := renameio.WithTempDir(filepath.Dir(path))
	f, err := renameio.NewPendingFile(path, beside, renameio.WithStaticPermissions(mode))
	if err != nil {
		return err
	}
	defer f.Cleanup()
	if err := write(f); err != nil {
		return err
	}
	if synced {
		return f.CloseAtomicallyReplace()
	}
	if err := f.File.Close(); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
