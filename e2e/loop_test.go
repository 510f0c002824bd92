package e2e

import (
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
	"golang.org/x/sys/unix"
)

// running is Omnivigil's plain stream of a project with these settings.
type running struct {
	t   testing.TB
	dir string
	out safeBuffer
	cmd *exec.Cmd
}

// onDiskAndInMemory runs a test in a directory whose file system counts writes, and in one that does not: writers are
// observed in two ways.
func onDiskAndInMemory(t *testing.T, test func(t *testing.T, dir string)) {
	const memory = "/dev/shm"
	for name, parent := range map[string]string{"on disk": os.TempDir(), "in memory": memory} {
		t.Run(name, func(t *testing.T) {
			t.Parallel()
			var fs unix.Statfs_t
			if err := unix.Statfs(parent, &fs); err != nil || parent == memory && fs.Type != unix.TMPFS_MAGIC {
				t.Skipf("%s keeps no files in memory", parent)
			}
			dir, err := os.MkdirTemp(parent, "omnivigil-")
			require.NoError(t, err)
			t.Cleanup(func() { os.RemoveAll(dir) })
			require.NoError(t, os.WriteFile(filepath.Join(dir, "fares.txt"), []byte("adult 4\n"), 0o644))
			test(t, dir)
		})
	}
}

func runIn(t testing.TB, dir, settings string) *running {
	t.Helper()
	return runAgain(t, dir, settings, t.TempDir())
}

// runAgain is runIn with the state of an earlier one.
func runAgain(t testing.TB, dir, settings, state string) *running {
	t.Helper()
	r := &running{t: t, dir: dir}
	r.write("omnivigil.toml", settings)
	r.cmd = exec.Command(build(t), "start", "--plain", "--trust")
	r.cmd.Dir, r.cmd.Stdout, r.cmd.Stderr = r.dir, &r.out, &r.out
	r.cmd.Env = append(os.Environ(), "XDG_STATE_HOME="+state)
	require.NoError(t, r.cmd.Start())
	t.Cleanup(r.stop)
	return r
}

// stop ends Omnivigil, if it is still running.
func (r *running) stop() {
	r.cmd.Process.Signal(syscall.SIGTERM)
	r.cmd.Wait()
}

func (r *running) write(name, text string) {
	r.t.Helper()
	require.NoError(r.t, os.WriteFile(filepath.Join(r.dir, name), []byte(text), 0o644))
}

// replace writes a file that no reader ever sees in part.
func (r *running) replace(name, text string) {
	r.t.Helper()
	next := filepath.Join(r.dir, ".next")
	require.NoError(r.t, os.WriteFile(next, []byte(text), 0o644))
	require.NoError(r.t, os.Rename(next, filepath.Join(r.dir, name)))
}

func (r *running) count(text string) int { return strings.Count(r.out.String(), text) }

func (r *running) says(text string, times int) {
	r.t.Helper()
	if !holds(2*patience, func() bool { return r.count(text) >= times }) {
		require.FailNow(r.t, "not said", "%q, %d times in:\n%s", text, times, r.account())
	}
}

// account is Omnivigil's own events.
func (r *running) account() string {
	var said []string
	for _, line := range strings.Split(r.out.String(), "\n") {
		if strings.Contains(line, " omnivigil  ") {
			said = append(said, line)
		}
	}
	return strings.Join(said, "\n")
}

const cut = "writes what makes it"

// TestLoopIsCut has a service and a task that write what makes them run.
func TestLoopIsCut(t *testing.T) {
	t.Parallel()
	onDiskAndInMemory(t, testLoopIsCut)
}

func testLoopIsCut(t *testing.T, dir string) {
	r := runIn(t, dir, `
[service.tides]
run = "sleep 0.2; echo $$ > tides.db; exec sleep 100"
watch = ["*.db"]

[task.format]
run = "sleep 0.1; for f in a b c; do echo $$ > $f.js; done"
watch = ["*.js", "*.txt"]
debounce = "1s" # its three writes are one change, however busy the machine is
`)
	r.says("tides "+cut+" restart: tides.db", 1)
	r.says("format "+cut+" rerun: a.js, b.js and 1 more", 1)
	// By the third time, as the engine's scenarios require; on a busy machine later.
	t.Logf(
		"noticed after %d and %d runs",
		r.count("tides starts: ")+r.count("tides restarts: "),
		r.count("format starts: ")+r.count("format reruns: "),
	)

	// It still reacts to everything else, and not to its own files.
	done, ready := r.count("format done"), r.count("tides is ready")
	r.write("fares.txt", "adult 5\n")
	r.says("format done", done+1)
	r.write("extra.db", "x")
	r.says("tides restarts: extra.db was created", 1)
	r.says("tides is ready", ready+1)
	assert.Equal(t, 2, r.count(cut))
}

// TestUnitsInALoop has a service and a task that set each other off, by a file in the one
// direction and back.
func TestUnitsInALoop(t *testing.T) {
	t.Parallel()
	onDiskAndInMemory(t, func(t *testing.T, dir string) {
		r := runIn(t, dir, `
[service.tides]
run = "sleep 0.2; date > pages.in; exec sleep 100"
watch = ["tides.in"]

[task.pages]
run = "sleep 0.1; date > tides.in"
watch = ["pages.in", "fares.txt"]
`)
		// Both write at about the same time at first, so that either may be taken for the writer. How soon the loop
		// is noticed is tested in the simulator: on a busy machine runs differ from each other.
		began, stolen := time.Now(), stolenTime(t)
		for r.count("are ignored from now on") == 0 && time.Since(began) < 30*time.Second {
			time.Sleep(20 * time.Millisecond)
		}
		if share := float64(stolenTime(t)-stolen) / float64(
			2*time.Since(began),
		); r.count("are ignored from now on") == 0 &&
			share > 0.05 {
			t.Skipf("%.0f %% of the processors were used by other processes: no two runs are alike", 100*share)
		}
		r.says("are ignored from now on", 1)
		assert.Regexp(t, `is in a loop: |writes what makes it `, r.account())
		done := r.count("pages done")
		r.write("fares.txt", "adult 5\n")
		r.says("pages done", done+1)
		assert.LessOrEqual(t, r.count("are ignored from now on"), 2, "each once: %s", r.account())
	})
}

// TestResultsOfPasses has a tool that writes files that it watches by its settings, and does not pick up. It reads
// fares.txt all the time, so that is replaced as a whole.
func TestResultsOfPasses(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "fares.txt"), []byte("adult 4\n"), 0o644))
	r := runIn(t, dir, `
[service.pages]
run = """
while :; do
	now=$(cat fares.txt)
	if [ "$now" != "$last" ]; then echo working; sleep 0.3; echo "$now" > fares.out; last=$now; echo good; fi
	sleep 0.05
done"""
watch = ["fares.*"]
pass = { working = "^working", good = "^good", within = "600ms" }
`)
	r.says("pages is ready", 1)
	// Three rounds show it. A save that comes to rest together with the previous output counts for neither, which
	// takes a round more.
	const noticed = "writes files that it watches and does not pick up: fares.out"
	saves := 0
	for r.count(noticed) == 0 && saves < 6 {
		saves++
		r.replace("fares.txt", fmt.Sprintf("adult 1%d\n", saves))
		require.Eventually(t, func() bool {
			return r.count(noticed) > 0 || r.count("omnivigil  pages has not picked up") == saves
		}, patience, 5*time.Millisecond, "%s", &r.out)
	}
	r.says(noticed, 1)
	r.replace("fares.txt", "adult 20\n")
	last := fmt.Sprintf("pass %d ended well", saves+2)
	r.says(last, 1)
	require.Eventually(t, func() bool {
		_, after, _ := strings.Cut(r.out.String(), last)
		return strings.Contains(after, "current after")
	}, patience, 5*time.Millisecond, "%s", &r.out)
	assert.Equal(t, saves-1, r.count("omnivigil  pages has not picked up"), "%s", r.account())
}

// TestUserIsNoLoop saves as often as possible: at regular times, and each time the unit is ready again. Its
// processes write a lot meanwhile, but not these files.
func TestUserIsNoLoop(t *testing.T) {
	t.Parallel()
	const person = 333 * time.Millisecond
	for _, test := range []struct {
		name, kind string
		every      []time.Duration
		settings   string
	}{
		{"a service that logs", "service", []time.Duration{0, person},
			"[service.web]\nrun = \"while :; do echo tide; sleep 0.01; done\"\nwatch = [\"*.txt\"]\n" +
				"ready = { after = \"50ms\" }\n"},
		// A busy machine may observe too late to distinguish its writes from a save within 50 ms.
		{"a service that writes at its start", "service", []time.Duration{person},
			"[service.web]\nrun = \"for i in 1 2 3 4 5; do echo $i > cache; done; exec sleep 100\"\n" +
				"watch = [\"*.txt\"]\nready = { after = \"50ms\" }\n"},
		{"a suite", "suite", []time.Duration{0, person},
			"[suite.web]\nrun = \"for i in 1 2 3; do echo ok $i; sleep 0.1; done\"\nwatch = [\"*.txt\"]\n"},
	} {
		for _, every := range test.every {
			t.Run(fmt.Sprint(test.name, ", every ", every), func(t *testing.T) {
				onDiskAndInMemory(
					t,
					func(t *testing.T, dir string) { saveOften(t, runIn(t, dir, test.settings), test.kind, every) },
				)
			})
		}
	}
}

func saveOften(t *testing.T, r *running, kind string, every time.Duration) {
	done := "web is ready"
	if kind == "suite" {
		done = "web done"
	}
	for n := 1; n <= 8; n++ {
		r.says(done, min(n, 2))
		if every > 0 {
			time.Sleep(every) // a user does
		} else {
			r.says(done, n)
		}
		r.write("fares.txt", fmt.Sprintf("adult %d\n", n))
	}
	assert.Zero(t, r.count(cut), "%s", r.account())
	assert.Zero(t, r.count("waits a moment"), "%s", r.account())
}
