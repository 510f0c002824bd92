package watch

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/watch/pattern"
	"omnivigil/internal/watch/stamp"
)

// TestLimits watches more directories than the system allows, in a user namespace that allows few watches or no
// instance at all.
func TestLimits(t *testing.T) {
	for _, limit := range []struct{ name, file, value string }{
		{"watches", "max_inotify_watches", "20"},
		{"instances", "max_inotify_instances", "0"},
	} {
		t.Run(limit.name, func(t *testing.T) {
			if os.Getenv("OMNIVIGIL_LIMITED") == limit.name {
				require.NoError(t, os.WriteFile("/proc/sys/user/"+limit.file, []byte(limit.value), 0o644))
				beyondLimits(t)
				return
			}
			c := exec.Command(os.Args[0], "-test.run", "^TestLimits$/^"+limit.name+"$", "-test.count", "1")
			c.Env = append(os.Environ(), "OMNIVIGIL_LIMITED="+limit.name)
			c.SysProcAttr = &syscall.SysProcAttr{
				Cloneflags: syscall.CLONE_NEWUSER,
				UidMappings: []syscall.SysProcIDMap{
					{HostID: os.Getuid(), Size: 1},
				},
				GidMappings: []syscall.SysProcIDMap{{HostID: os.Getgid(), Size: 1}},
			}
			out, err := c.CombinedOutput()
			if err != nil && len(out) == 0 {
				t.Skip("no user namespaces here: ", err)
			}
			require.NoError(t, err, "%s", out)
		})
	}
}

func beyondLimits(t *testing.T) {
	root := t.TempDir()
	for n := range 60 {
		put(t, root, fmt.Sprintf("d%d/x.txt", n))
	}
	w, err := Open(root, 0)
	require.NoError(t, err)
	defer w.Close()
	w.SetInterests([]pattern.Interest{{Key: "all", Rules: rules("**/*.txt"), Debounce: 100 * time.Millisecond}}, 0)
	said := ""
	for said == "" {
		if n, ok := (<-w.Events()).(Notice); ok {
			said = n.Text
		}
	}
	assert.Contains(t, said, "sudo sysctl -w fs.inotify.max_user_watches=")
	time.Sleep(2 * stamp.SoonAfter) // so that the files are not new
	for n := range 60 {
		put(t, root, fmt.Sprintf("d%d/x.txt", n))
	}
	put(t, root, "new/deep/y.txt")
	require.NoError(t, os.Remove(filepath.Join(root, "d7/x.txt")))
	told := map[string]string{}
	for limit := time.After(20 * time.Second); len(told) < 61; {
		select {
		case ev := <-w.Events():
			if c, ok := ev.(Change); ok {
				for _, h := range c.Hits {
					told[h.Path] = h.What
				}
			}
		case <-limit:
			t.Fatalf("only reported %v", told)
		}
	}
	assert.Equal(t, "removed", told["d7/x.txt"])
	assert.Contains(t, told, "new/deep/y.txt")
}

// soon is a debounce, in the system's time, for changes that are found by polling.
const soon = 50 * time.Millisecond

// tells waits until all of this has been reported, in one change or several.
func (l *hearing) tells(t *testing.T, want ...string) {
	t.Helper()
	missing := map[string]bool{}
	for _, text := range want {
		missing[text] = true
	}
	for len(missing) > 0 {
		if c, ok := l.next(t).(Change); ok {
			for _, h := range c.Hits {
				delete(missing, h.Path+" "+h.What)
			}
		}
	}
}

// TestProjectIsReplaced removes the whole directory and puts another in its place.
func TestProjectIsReplaced(t *testing.T) {
	root := filepath.Join(t.TempDir(), "project")
	put(t, root, "a.txt")
	put(t, root, "deep/b.txt")
	w := open(t, root, pattern.Interest{Key: "all", Rules: rules("**/*.txt"), Debounce: soon})
	require.NoError(t, os.Rename(root, root+"-old"))
	w.tells(t, "a.txt removed", "deep/b.txt removed")
	put(t, root, "deep/c.txt")
	w.tells(t, "deep/c.txt created")
	put(t, root, "deep/c.txt")
	w.tells(t, "deep/c.txt written")
}

// TestMountGoes unmounts a file system below a directory.
func TestMountGoes(t *testing.T) {
	root := t.TempDir()
	put(t, root, "disk/under.txt")
	if err := syscall.Mount("none", filepath.Join(root, "disk"), "tmpfs", 0, ""); err != nil {
		t.Skip("no mounts here: ", err)
	}
	put(t, root, "disk/a.txt")
	w := open(t, root, pattern.Interest{Key: "all", Rules: rules("**/*.txt"), Debounce: soon})
	require.NoError(t, syscall.Unmount(filepath.Join(root, "disk"), 0))
	w.tells(t, "disk/a.txt removed", "disk/under.txt created")
	put(t, root, "disk/under.txt")
	w.tells(t, "disk/under.txt written")
}
