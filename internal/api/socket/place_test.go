//go:build unix

package socket

import (
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOneLock lets one process have the lock of a project, whatever directory its socket is in, and even if an
// earlier version has it; a lock that was removed does not count as held, and is not held by two.
func TestOneLock(t *testing.T) {
	file, locks := filepath.Join(t.TempDir(), "omnivigil.toml"), t.TempDir()
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	here, err := PlaceOf(file, t.TempDir(), t.TempDir(), locks)
	require.NoError(t, err)
	there, err := PlaceOf(file, t.TempDir(), t.TempDir(), locks)
	require.NoError(t, err)
	require.NotEqual(t, here.Socket, there.Socket)
	lock, err := here.TryLock()
	require.NoError(t, err)
	_, err = there.TryLock()
	require.ErrorIs(t, err, ErrLocked)
	assert.Equal(t, here.Socket, there.Listening().Socket, "who has it says where it listens")
	require.NoError(t, lock.Close())

	require.NoError(t, os.MkdirAll(filepath.Dir(here.before), 0o700))
	before, err := os.OpenFile(here.before, os.O_CREATE|os.O_RDWR, 0o600)
	require.NoError(t, err)
	require.NoError(t, flock(before))
	_, err = here.TryLock()
	require.ErrorIs(t, err, ErrLocked, "an older version runs it")
	require.NoError(t, before.Close())
}

// TestKeep creates the socket and the lock again if others have removed them.
func TestKeep(t *testing.T) {
	file := filepath.Join(t.TempDir(), "omnivigil.toml")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	place, err := PlaceOf(file, t.TempDir(), t.TempDir(), filepath.Join(t.TempDir(), "locks"))
	require.NoError(t, err)
	lock, err := place.TryLock()
	require.NoError(t, err)
	l, err := place.Listen()
	require.NoError(t, err)
	again, relocked, err := place.Keep(l, lock)
	require.NoError(t, err)
	assert.Nil(t, again)
	assert.Nil(t, relocked)
	require.NoError(t, os.RemoveAll(filepath.Dir(place.Socket)))
	require.NoError(t, os.RemoveAll(filepath.Dir(place.Lock)))
	again, relocked, err = place.Keep(l, lock)
	require.NoError(t, err)
	require.NotNil(t, again)
	require.NotNil(t, relocked)
	_, err = place.TryLock()
	assert.ErrorIs(t, err, ErrLocked)
	again.Close()
	relocked.Close()
	lock.Close()
}

// TestSweepLocks removes only locks of projects that are gone and not running.
func TestSweepLocks(t *testing.T) {
	locks, dir := t.TempDir(), t.TempDir()
	for _, name := range []string{"there", "gone", "runs"} {
		place, err := PlaceOf(filepath.Join(dir, name), t.TempDir(), t.TempDir(), locks)
		require.NoError(t, err)
		lock, err := place.TryLock()
		require.NoError(t, err)
		if name != "runs" {
			lock.Close()
		}
		if name == "there" {
			require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
		}
		t.Cleanup(func() { lock.Close() })
	}
	SweepLocks(locks)
	left, err := fs.Glob(os.DirFS(locks), "*.lock")
	require.NoError(t, err)
	assert.Len(t, left, 2)
}

// TestPlaces are short enough for a socket, the same for every path to the settings, and different for different
// settings.
func TestPlaces(t *testing.T) {
	root := t.TempDir()
	file := filepath.Join(root, "omnivigil.toml")
	require.NoError(t, os.WriteFile(file, nil, 0o600))
	require.NoError(t, os.Symlink(file, filepath.Join(root, "link.toml")))
	one, err := PlaceOf(file, "", root, root)
	require.NoError(t, err)
	other, err := PlaceOf(filepath.Join(root, "link.toml"), "", root, root)
	require.NoError(t, err)
	assert.Equal(t, one, other)
	long, err := PlaceOf(file, filepath.Join(root, strings.Repeat("r", 100)), root, root)
	require.NoError(t, err)
	assert.LessOrEqual(t, len(long.Socket), 107)
	assert.NotEqual(t, one, long)
	require.NoError(t, os.Remove(file))
	gone, err := PlaceOf(file, "", root, root)
	require.NoError(t, err)
	assert.Equal(t, one, gone, "it can still be ended")
}
