package spawn

import (
	"fmt"
	"os"
	"runtime"
	"strconv"
	"strings"
	"syscall"
	"testing"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

func init() {
	if os.Getenv("OMNIVIGIL_HEADLESS") != "" {
		liveWithoutFirstThread()
	}
}

// liveWithoutFirstThread ends the process's first thread and leaves another, so that
// /proc shows a process that has ended but still holds its files and ports.
func liveWithoutFirstThread() {
	runtime.LockOSThread()
	go func() {
		for {
			if m, ok := readMember(os.Getpid()); ok && m.gone() {
				fmt.Println(os.Getpid())
				select {}
			}
			runtime.Gosched()
		}
	}()
	syscall.RawSyscall(syscall.SYS_EXIT, 0, 0, 0)
}

// TestStrays ends processes that tried to get away from their run.
func TestStrays(t *testing.T) {
	program, err := os.Executable()
	require.NoError(t, err)
	for _, test := range []struct{ name, script string }{
		{"in a session of its own", `setsid sh -c 'echo $$; exec sleep 1000'& wait`},
		{"in a process group of its own", `set -m; sh -c 'echo $$; exec sleep 1000' & wait`},
		{"orphaned by forking twice", `(setsid sh -c 'echo $$; exec sleep 1000' &) ; sleep 1000`},
		{"outliving its leader", `(setsid sh -c 'echo $$; exec sleep 1000' &) ; sleep 0.3; exit 3`},
		{"without its first thread", `(OMNIVIGIL_HEADLESS=1 setsid ` + program + ` &) ; sleep 0.3; exit 3`},
		{"deaf to its signal", `(setsid sh -c "trap '' TERM; echo \$\$; while :; do sleep 0.01; done" &) ; sleep 1000`},
	} {
		t.Run(test.name, func(t *testing.T) {
			t.Parallel()
			r := start(t, "/bin/sh", "-c", test.script)
			eventually(t, "it is up", func() bool { return strings.HasSuffix(r.text(), "\n") })
			pid, err := strconv.Atoi(strings.TrimSpace(r.text()))
			require.NoError(t, err)
			spawner.Survey() // it is known
			if !strings.Contains(test.script, "exit 3") {
				require.NoError(t, r.Signal("TERM"))
				if strings.Contains(test.script, "trap") {
					require.NoError(t, r.Signal("KILL"))
				}
			}
			r.wait(t)
			assert.ErrorIs(t, syscall.Kill(pid, 0), syscall.ESRCH)
		})
	}
}
