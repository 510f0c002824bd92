package files

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
)

func replace(path string, mode fs.FileMode, synced bool, write func(io.Writer) error) error {
	f, err := os.CreateTemp(filepath.Dir(path), ".new-*")
	if err != nil {
		return err
	}
	defer os.Remove(f.Name())
	err = errors.Join(write(f), f.Chmod(mode))
	if err == nil && synced {
		err = f.Sync()
	}
	if err = errors.Join(err, f.Close()); err != nil {
		return err
	}
	return os.Rename(f.Name(), path)
}
