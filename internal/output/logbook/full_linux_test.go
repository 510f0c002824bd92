package logbook

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// TestDiskFull fills a small disk under a log and makes room again: the lines written in between are all there, in
// order, and once.
func TestDiskFull(t *testing.T) {
	disk := t.TempDir()
	if err := unix.Mount("tmpfs", disk, "tmpfs", 0, "size=2m"); err != nil {
		t.Skipf("no disk can be mounted: %v", err)
	}
	defer unix.Unmount(disk, unix.MNT_DETACH)
	b := Open(filepath.Join(disk, "log"), Options{})
	fill := filepath.Join(disk, "others")
	number := 0
	write := func(n int) {
		for range n {
			b.Append(Entry{Unit: "tides"}, fmt.Sprintf("%08d %s", number, strings.Repeat("~", number%90)))
			number++
		}
	}
	until := func(full bool) {
		t.Helper()
		require.Eventually(
			t,
			func() bool { write(10); b.Flush(); return (b.Err() != nil) == full },
			time.Minute,
			time.Millisecond,
		)
	}
	write(1000)
	require.NoError(t, os.WriteFile(fill, make([]byte, 1<<20), 0o600))
	for range 3 {
		until(true)
		assert.ErrorContains(t, b.Err(), "no space left on device")
		write(500)
		require.NoError(t, os.Truncate(fill, 0))
		until(false)
		write(100)
		b.Flush()
		os.WriteFile(fill, make([]byte, 4<<20), 0o600) // as much as fits
	}
	require.NoError(t, os.Truncate(fill, 0))
	until(false)
	require.NoError(t, b.Close())
	lines := all(t, view(t, Read(b.Dir(), true)))
	require.Len(t, lines, number)
	for i, l := range lines {
		require.Equal(t, fmt.Sprintf("%08d %s", i, strings.Repeat("~", i%90)), l.Text)
	}
}
