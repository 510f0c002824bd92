//go:build unix

package files

import (
	"errors"
	"io"
	"io/fs"
	"os"
	"path/filepath"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestRead(t *testing.T) {
	dir := t.TempDir()
	at := func(name string) string { return filepath.Join(dir, name) }
	require.NoError(t, os.WriteFile(at("file"), []byte("text"), 0o600))
	require.NoError(t, os.Symlink("file", at("link")))
	require.NoError(t, os.Symlink("/dev/zero", at("zero")))
	require.NoError(t, syscall.Mkfifo(at("pipe"), 0o600))
	require.NoError(t, os.WriteFile(at("large"), nil, 0o600))
	require.NoError(t, os.Truncate(at("large"), 2<<20))

	for _, name := range []string{"file", "link"} {
		data, err := Read(at(name), Sane)
		require.NoError(t, err)
		assert.Equal(t, "text", string(data))
	}
	for name, why := range map[string]string{
		"zero": "it is a device, not a file", "pipe": "it is a pipe, not a file", ".": "it is a directory, not a file",
		"large": "it is larger than 1 MB", "none": "no such file or directory",
	} {
		_, err := Read(at(name), 1_000_000)
		require.Error(t, err, name)
		assert.Equal(t, why, Reason(err).Error())
	}
}

// TestReplace leaves either the old contents or the new ones.
func TestReplace(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, "settings")
	require.NoError(t, os.WriteFile(file, []byte("old"), 0o644))
	broken := func(w io.Writer) error {
		io.WriteString(w, "half")
		return errors.New("broken off")
	}
	require.ErrorContains(t, ReplaceCache(file, broken), "broken off")
	read := func() string {
		data, err := os.ReadFile(file)
		require.NoError(t, err)
		return string(data)
	}
	assert.Equal(t, "old", read())
	require.NoError(t, Replace(file, []byte("new"), 0o640))
	assert.Equal(t, "new", read())
	info, err := os.Stat(file)
	require.NoError(t, err)
	assert.Equal(t, fs.FileMode(0o640), info.Mode().Perm())
	all, err := os.ReadDir(dir)
	require.NoError(t, err)
	assert.Len(t, all, 1)
	assert.Error(t, ReplaceCache(filepath.Join(dir, "none", "file"), Bytes(nil)))
	require.NoError(t, KeepCache(filepath.Join(dir, "none", "file"), Bytes(nil)))
}
