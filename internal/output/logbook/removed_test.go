package logbook

import (
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestFolderRemoved removes the directory of a log while it is written: the log creates it again with the contents of
// the newest segment, readable by any reader, and reports this.
func TestFolderRemoved(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "log")
	b := Open(dir, Options{})
	defer b.Close()
	b.Append(Entry{Unit: "tides"}, "before")
	b.Flush()
	require.NoError(t, os.RemoveAll(dir))
	b.Append(Entry{Unit: "tides"}, "in between")
	b.Flush()
	b.Check()
	require.Eventually(t, func() bool {
		_, err := os.Stat(dir)
		return err == nil
	}, time.Minute, time.Millisecond)
	b.Append(Entry{Unit: "tides"}, "after")
	b.Flush()
	v, err := Read(dir, false).View()
	require.NoError(t, err)
	have := strings.Join(texts(all(t, v)), "\n")
	for _, want := range []string{"before", "in between", "after", "was removed and has been recreated"} {
		assert.Contains(t, have, want)
	}
	require.NoError(t, b.Err())
}
