package listing

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/watch/stamp"
)

// TestRead reads a directory with every kind of entry, and with more names than one read of the system returns.
func TestRead(t *testing.T) {
	dir := t.TempDir()
	want := map[string]stamp.Kind{"d": stamp.Directory, "l": stamp.Link, "lost": stamp.Link}
	require.NoError(t, os.Mkdir(filepath.Join(dir, "d"), 0o755))
	require.NoError(t, os.Symlink("d", filepath.Join(dir, "l")))
	require.NoError(t, os.Symlink("nothing", filepath.Join(dir, "lost")))
	for i := range 300 {
		name := fmt.Sprint(strings.Repeat("ä", 100), i)
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o644))
		want[name] = stamp.File
	}
	id, entries, err := Read(dir)
	require.NoError(t, err)
	got := map[string]stamp.Kind{}
	for _, e := range entries {
		got[e.Name] = e.Kind
	}
	assert.Equal(t, want, got)
	assert.Len(t, entries, len(want))
	assert.Equal(t, stamp.IdentityAt(dir), id)
	throughLink, _, err := Read(filepath.Join(dir, "l"))
	require.NoError(t, err)
	assert.Equal(t, stamp.IdentityAt(filepath.Join(dir, "d")), throughLink)
	_, _, err = Read(filepath.Join(dir, strings.Repeat("ä", 100)+"0"))
	assert.Equal(t, errNoDirectory, err)
	_, _, err = Read(filepath.Join(dir, "lost"))
	assert.ErrorIs(t, err, os.ErrNotExist)
}
