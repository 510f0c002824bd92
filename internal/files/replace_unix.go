//go:build !windows

package files

import (
	"io"
	"io/fs"
	"os"

	"github.com/google/renameio/v2"
)

func replace(path string, mode fs.FileMode, synced bool, write func(io.Writer) error) error {
	f, err := renameio.NewPendingFile(path, renameio.WithStaticPermissions(mode))
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
