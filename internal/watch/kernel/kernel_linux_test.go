package kernel

import (
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestCatchUpIsBounded catches up with earlier events although more events keep arriving: a program that writes
// without end cannot delay it further.
func TestCatchUpIsBounded(t *testing.T) {
	root := t.TempDir()
	k, err := openInotify()
	require.NoError(t, err)
	defer k.file.Close()
	_, err = k.Add(root)
	require.NoError(t, err)
	nothing := k.CatchUp()
	assert.True(t, nothing(), "there is nothing to be read")
	require.NoError(t, os.WriteFile(filepath.Join(root, "a"), nil, 0o600))
	before := k.CatchUp()
	assert.False(t, before())
	n, err := k.wait(make([]byte, bufferSize))
	require.NoError(t, err)
	assert.False(t, before(), "what was read is not told yet")
	k.told += n
	require.NoError(t, os.WriteFile(filepath.Join(root, "b"), nil, 0o600))
	assert.True(t, before(), "b came later")
	assert.False(t, k.CatchUp()())
	assert.True(t, nothing())
}
