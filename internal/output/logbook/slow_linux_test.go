package logbook

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestSlowDisk uses a disk that blocks for a while without an error: output of processes waits, lines of Omnivigil do
// not, and in the end all of it is there.
func TestSlowDisk(t *testing.T) {
	image, disk := filepath.Join(t.TempDir(), "image"), t.TempDir()
	require.NoError(t, os.WriteFile(image, nil, 0o600))
	require.NoError(t, os.Truncate(image, 64<<20))
	for _, words := range [][]string{{"mkfs.ext4", "-q", image}, {"mount", "-o", "loop", image, disk}} {
		if out, err := exec.Command(words[0], words[1:]...).CombinedOutput(); err != nil {
			t.Skipf("no disk can be made: %v: %v %s", words, err, out)
		}
	}
	defer exec.Command("umount", "--lazy", disk).Run()
	b := Open(filepath.Join(disk, "log"), Options{})
	b.Append(Entry{Unit: "tides"}, "first")
	b.Flush()
	require.NoError(t, exec.Command("fsfreeze", "--freeze", disk).Run())
	thaw := func() error { return exec.Command("fsfreeze", "--unfreeze", disk).Run() }
	defer thaw()

	const lines = 2 * maxBehind / 1000
	written := make(chan bool)
	go func() {
		for n := range lines {
			b.Append(Entry{Unit: "tides"}, fmt.Sprintf("%08d %s", n, strings.Repeat("~", 991)))
		}
		close(written)
	}()
	require.Eventually(t, func() bool { return b.Err() != nil }, time.Minute, time.Millisecond)
	assert.ErrorIs(t, b.Err(), ErrSlow)
	b.Append(Entry{Stream: Note}, "said meanwhile")
	select {
	case <-written:
		t.Error("nothing has waited for the disk")
	default:
	}

	require.NoError(t, thaw())
	<-written
	b.Flush()
	require.Eventually(t, func() bool { return b.Err() == nil }, time.Minute, time.Millisecond)
	require.NoError(t, b.Close())
	n := 0
	for _, l := range all(t, view(t, Read(b.Dir(), true))) {
		if l.Stream == Output && l.Text != "first" {
			require.Equal(t, fmt.Sprintf("%08d ", n), l.Text[:9])
			n++
		}
	}
	assert.Equal(t, lines, n)
}
