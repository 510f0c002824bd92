//go:build unix

package files

import (
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
		"zero": "it is a device, not a file", "pipe": "it is a pipe, not a file", ".": "it is a folder, not a file",
		"large": "it is larger than 1 MB", "none": "no such file or directory",
	} {
		_, err := Read(at(name), 1_000_000)
		require.Error(t, err, name)
		assert.Equal(t, why, Reason(err).Error())
	}
}
