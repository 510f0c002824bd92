package spawn

import (
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// TestStrays ends processes that tried to get away from their run.
func TestStrays(t *testing.T) {
	for _, test := range []struct{ name, script string }{
		{"in a session of its own", `setsid sh -c 'echo $$; exec sleep 1000'& wait`},
		{"in a process group of its own", `set -m; sh -c 'echo $$; exec sleep 1000' & wait`},
		{"orphaned by forking twice", `(setsid sh -c 'echo $$; exec sleep 1000' &) ; sleep 1000`},
		{"outliving its leader", `(setsid sh -c 'echo $$; exec sleep 1000' &) ; sleep 0.3; exit 3`},
		{"deaf to its signal", `(setsid sh -c "trap '' TERM; echo \$\$; while :; do sleep 0.01; done" &) ; sleep 1000`},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			r := start(t, "/bin/sh", "-c", test.script)
			eventually(t, "it is up", func() bool { return strings.HasSuffix(r.text(), "\n") })
			pid, err := strconv.Atoi(strings.TrimSpace(r.text()))
			require.NoError(t, err)
			eventually(t, "it is known", func() bool { return r.alive() })
			if !strings.Contains(test.script, "exit 3") {
				require.NoError(t, r.Signal("TERM"))
				if strings.Contains(test.script, "trap") {
					require.NoError(t, r.Signal("KILL"))
				}
			}
			r.wait(t)
			m, ok := readMember(pid)
			assert.True(t, !ok || m.gone(), "%d is %c", pid, m.state)
		})
	}
}
