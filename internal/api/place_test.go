//go:build unix

package api

import (
	"io/fs"
	"net"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestOneLock lets one process have the lock of a project, whatever folder its socket is in and whether a
// version before this one has it; a lock that was removed is not taken for held, nor held by two.
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
	assert.Equal(t, here.Socket, there.listening().Socket, "who has it says where it listens")
	require.NoError(t, lock.Close())

	require.NoError(t, os.MkdirAll(filepath.Dir(here.before), 0o700))
	before, err := os.OpenFile(here.before, os.O_CREATE|os.O_RDWR, 0o600)
	require.NoError(t, err)
	require.NoError(t, flock(before))
	_, err = here.TryLock()
	require.ErrorIs(t, err, ErrLocked, "an older version runs it")
	require.NoError(t, before.Close())
}

// TestKeep makes the socket and the lock again where others have removed them.
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

// TestForeign trusts nothing that is not this user's: a folder that is a link, or belongs to another.
func TestForeign(t *testing.T) {
	runtime, elsewhere := t.TempDir(), t.TempDir()
	file := filepath.Join(t.TempDir(), "omnivigil.toml")
	place, err := PlaceOf(file, runtime, t.TempDir(), t.TempDir())
	require.NoError(t, err)
	require.NoError(t, os.RemoveAll(filepath.Dir(place.Socket)))
	require.NoError(t, os.Symlink(elsewhere, filepath.Dir(place.Socket)))
	l, err := net.Listen("unix", place.Socket)
	require.NoError(t, err)
	defer l.Close()
	var foreign *ForeignError
	_, err = Connect(t.Context(), place)
	require.ErrorAs(t, err, &foreign)
	_, err = place.Listen()
	require.ErrorAs(t, err, &foreign)

	if os.Getuid() != 0 {
		t.Log("only root can make files of others: their folders were not tested")
		return
	}
	require.NoError(t, os.Remove(filepath.Dir(place.Socket)))
	require.NoError(t, os.Mkdir(filepath.Dir(place.Socket), 0o777))
	require.NoError(t, os.Chown(filepath.Dir(place.Socket), 12345, 12345))
	_, err = Connect(t.Context(), place)
	require.ErrorAs(t, err, &foreign)
	assert.Contains(t, err.Error(), "belongs to another user")
}

// TestSweepLocks removes only locks of projects that are gone and do not run.
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
