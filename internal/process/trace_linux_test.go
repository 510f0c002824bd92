package process

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestTraces distinguishes runs that write files from those that only print, on a file system that counts written
// bytes and on one that does not.
func TestTraces(t *testing.T) {
	const begin, end = `echo one; while [ ! -e go ]; do sleep 0.01; done; `, `; exec tail -f /dev/null`
	for _, test := range []struct {
		name, script string
		writes       bool
	}{
		{"it says something", `printf 'two\nthree\r\n'`, false},
		{"its child says something", `(echo two); echo three`, false},
		{"it writes a file", `echo two > file; echo three`, true},
		{"its child writes a file", `(echo two > file); echo three`, true},
	} {
		for name, folder := range map[string]string{"counting": t.TempDir(), "not counting": "/proc"} {
			t.Run(test.name+", "+name, func(t *testing.T) {
				t.Parallel()
				r := start(t, "/bin/sh", "-c", begin+test.script+end)
				trace := func() Trace {
					all, can := spawner.Traces(folder)
					require.True(t, can)
					return all[r.Process]
				}
				eventually(t, "it has no trace", func() bool { return r.text() == "one\r\n" && trace() == 0 })
				require.NoError(t, os.WriteFile(filepath.Join(r.spec.Dir, "go"), nil, 0o644))
				eventually(t, "it has acted", func() bool {
					words, _ := os.ReadFile(fmt.Sprintf("/proc/%d/comm", r.PID))
					return string(words) == "tail\n"
				})
				eventually(
					t,
					"its trace is right",
					func() bool { return (trace() != 0) == test.writes },
				) // its output may not have been read yet
				require.NoError(t, r.Signal("KILL"))
				r.wait(t)
				wrote, seen := r.Wrote(folder)
				assert.True(t, seen)
				assert.Equal(t, test.writes, wrote != 0, "trace %d at its end", wrote)
			})
		}
	}
}
