package watch

import (
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestReaderEnds closes the events, with the reason, when the system tells of nothing any more.
func TestReaderEnds(t *testing.T) {
	k, err := openKernel()
	require.NoError(t, err)
	w := newWatcher(filepath.ToSlash(t.TempDir()), 0, k, time.Now)
	defer w.Close()
	require.NoError(t, k.(*inotify).file.Close())
	for range w.Events() {
	}
	assert.ErrorContains(t, w.Err(), "closed")
}

// TestCatchUpIsBounded is caught up with what happened before, although there is more to read by then:
// who writes without an end puts it off no longer than that.
func TestCatchUpIsBounded(t *testing.T) {
	root := t.TempDir()
	k, err := openInotify()
	require.NoError(t, err)
	defer k.file.Close()
	_, err = k.add(root)
	require.NoError(t, err)
	nothing := k.catchUp()
	assert.True(t, nothing(), "there is nothing to be read")
	put(t, root, "a")
	before := k.catchUp()
	assert.False(t, before())
	n, err := k.wait(make([]byte, bufferSize))
	require.NoError(t, err)
	assert.False(t, before(), "what was read is not told yet")
	k.told += n
	put(t, root, "b")
	assert.True(t, before(), "b came later")
	assert.False(t, k.catchUp()())
	assert.True(t, nothing())
}
