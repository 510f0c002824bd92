package readers

import (
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTraps reads lines that only look like findings, each alone: hosts and ports, times, logs, prose, and locations
// in files that do not exist.
func TestTraps(t *testing.T) {
	dir := t.TempDir()
	for _, name := range []string{"main.go", "pump.go", "tides.csv", "pump.conf", "fares.csv"} {
		require.NoError(t, os.WriteFile(filepath.Join(dir, name), nil, 0o600))
	}
	text, err := os.ReadFile("testdata/traps.txt")
	require.NoError(t, err)
	lines := strings.Split(strings.TrimSpace(string(text)), "\n")
	assert.GreaterOrEqual(t, len(lines), 30)
	for _, line := range lines {
		p := &printing{root: dir}
		r := New(Options{Dir: dir, Root: dir}, p)
		r.Read(line)
		r.Read("")
		r.End(true)
		assert.Empty(t, p.String(), line)
	}
}
