package series

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func TestSamplesAreWrittenWhenTheyMove(t *testing.T) {
	dir := t.TempDir()
	w, err := Create(dir)
	require.NoError(t, err)
	defer w.Close()
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for _, s := range []Sample{{}, {Memory: 100}, {Memory: 101}, {Memory: 120}, {Memory: 120, CPU: 0.005},
		{Memory: 120, CPU: 0.5}, {Memory: 120, CPU: 0.5, Output: 7}} {
		require.NoError(t, w.Add(at, map[string]Sample{"tides": s}))
	}
	require.NoError(t, w.Add(at, nil), "it runs no more")
	data, err := os.ReadFile(filepath.Join(dir, FileName))
	require.NoError(t, err)
	assert.Equal(t, `time,unit,cpu,memory,output
2026-03-01T12:00:00Z,tides,0.000,100,0
2026-03-01T12:00:00Z,tides,0.000,120,0
2026-03-01T12:00:00Z,tides,0.500,120,0
2026-03-01T12:00:00Z,tides,0.500,120,7
2026-03-01T12:00:00Z,tides,0.000,0,7
`, string(data))

	all, next, err := Read(dir, 0)
	require.NoError(t, err)
	require.Len(t, all, 5)
	assert.Equal(t, Sample{at, "tides", 0.5, 120, 7}, all[3])
	none, same, err := Read(dir, next)
	require.NoError(t, err)
	assert.Empty(t, none)
	assert.Equal(t, next, same)

	_, err = Create(dir)
	assert.ErrorContains(t, err, "make the file of samples")
	require.NoError(t, w.Close())
	assert.ErrorContains(t, w.Add(at, map[string]Sample{"tides": {Memory: 1}}), "write a sample")
}

// TestFileIsBounded checks that, for a unit that is never at rest, the interval between rows grows with the size of
// the file.
func TestFileIsBounded(t *testing.T) {
	for _, test := range []struct {
		size int64
		rows int // in an hour, with one sample every two seconds
	}{{0, 1800}, {freeSize, 900}, {freeSize + 4*sizeStep, 57}, {freeSize + 12*sizeStep, 1}, {1 << 40, 1}} {
		w, err := Create(t.TempDir())
		require.NoError(t, err)
		at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
		w.size = test.size
		for i := range int64(1800) {
			require.NoError(
				t,
				w.Add(at.Add(time.Duration(i)*2*time.Second), map[string]Sample{"tides": {Output: i + 1}}),
			)
		}
		require.NoError(t, w.Close())
		all, _, err := Read(filepath.Dir(w.file.Name()), 0)
		require.NoError(t, err)
		assert.Len(t, all, test.rows, "from %d bytes on", test.size)
	}
}

func TestReadForgives(t *testing.T) {
	dir := t.TempDir()
	none, next, err := Read(dir, 0)
	require.NoError(t, err)
	assert.Empty(t, none)
	assert.Zero(t, next)
	text := "time,unit,cpu,memory\n2026-03-01T12:00:00Z,tides,0.25,4096\nnonsense\n,,,\n2026-03-01T12:00:02Z,ber"
	require.NoError(t, os.WriteFile(filepath.Join(dir, FileName), []byte(text), 0o600))
	all, next, err := Read(dir, 0)
	require.NoError(t, err)
	require.Len(t, all, 1, "an earlier session's, without output")
	assert.EqualValues(t, 4096, all[0].Memory)
	assert.EqualValues(t, len(text)-len("2026-03-01T12:00:02Z,ber"), next, "what is torn is read later")
}
