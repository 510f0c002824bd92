package tree

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"

	"omnivigil/internal/store/contents"
	"omnivigil/internal/watch/pattern"
)

// smallDisk mounts a file system of 256 kB, or skips the test.
func smallDisk(t *testing.T) (dir string) {
	dir = t.TempDir()
	if err := unix.Mount("none", dir, "tmpfs", 0, "size=256k"); err != nil {
		t.Skipf("no file system can be mounted: %v", err)
	}
	t.Cleanup(func() { unix.Unmount(dir, 0) })
	return dir
}

// TestDiskFull fills the disk of the store, and that of the outputs: nothing incomplete stays.
func TestDiskFull(t *testing.T) {
	large := strings.Repeat("x", 100_000)
	p := newPlace(t)
	for _, name := range []string{"dist/a", "dist/b", "dist/c"} {
		p.write(name, name+large)
	}
	want := p.capture()
	assert.Len(t, want, 3)

	p.root = smallDisk(t)
	_, err := p.restore(want)
	require.ErrorContains(t, err, "no space left")
	for _, name := range p.names() {
		info, err := os.Stat(name)
		require.NoError(t, err)
		assert.True(t, info.IsDir() || info.Size() == int64(len(large)+6), "%s is incomplete", name)
		assert.NotContains(t, name, pattern.Restoring)
	}

	random := newPlace(t)
	random.store = contents.In(smallDisk(t), contents.Limits{})
	data := make([]byte, 400_000)
	file, err := os.Open("/dev/urandom")
	require.NoError(t, err)
	defer file.Close()
	_, err = file.Read(data)
	require.NoError(t, err)
	random.write("dist/random", string(data))
	_, err = Capture(random.root, random.names(), random.store, nil, 0)
	require.ErrorContains(t, err, "no space left")
	u, err := random.store.Usage()
	require.NoError(t, err)
	assert.Zero(t, u.Contents)
}

// TestReadOnly has outputs and a store that cannot be written: the store can still be read.
func TestReadOnly(t *testing.T) {
	p := newPlace(t)
	p.store = contents.In(smallDisk(t), contents.Limits{})
	p.write("dist/a", "a")
	want := p.capture()
	require.NoError(t, unix.Mount("none", p.store.Dir(), "tmpfs", unix.MS_REMOUNT|unix.MS_RDONLY, ""))
	require.NoError(t, os.RemoveAll(filepath.Join(p.root, "dist")))
	_, err := p.restore(want)
	require.NoError(t, err)
	data, err := os.ReadFile(filepath.Join(p.root, "dist/a"))
	require.NoError(t, err)
	assert.Equal(t, "a", string(data))
	p.write("dist/b", "b")
	_, err = Capture(p.root, p.names(), p.store, nil, 0)
	require.ErrorContains(t, err, "read-only")

	p.root = smallDisk(t)
	p.write("own", "of the user")
	require.NoError(t, unix.Mount("none", p.root, "tmpfs", unix.MS_REMOUNT|unix.MS_RDONLY, ""))
	_, err = p.restore(want)
	require.ErrorContains(t, err, "read-only")
	assert.Len(t, p.names(), 1)
}
