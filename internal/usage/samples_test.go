package usage

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
	s, err := openSamples(dir)
	require.NoError(t, err)
	defer s.file.Close()
	at := time.Date(2026, 3, 1, 12, 0, 0, 0, time.UTC)
	for _, u := range []Use{{}, {Memory: 100}, {Memory: 101}, {Memory: 120}, {Memory: 120, CPU: 0.005}, {Memory: 120, CPU: 0.5}} {
		require.NoError(t, s.add(at, map[string]Use{"tides": u}))
	}
	data, err := os.ReadFile(filepath.Join(dir, "use.csv"))
	require.NoError(t, err)
	assert.Equal(t, `time,unit,cpu,memory
2026-03-01T12:00:00Z,tides,0.000,100
2026-03-01T12:00:00Z,tides,0.000,120
2026-03-01T12:00:00Z,tides,0.500,120
`, string(data))
	_, err = openSamples(dir)
	assert.ErrorContains(t, err, "make the file of samples")
	require.NoError(t, s.file.Close())
	assert.ErrorContains(t, s.add(at, map[string]Use{"tides": {Memory: 1}}), "write a sample")
}
