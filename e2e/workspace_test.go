package e2e

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// workspace is a project of 60 units: ten chains of five tasks whose results can be reused, each with a service at
// its end. A task records when it begins and ends.
type workspace struct {
	t          testing.TB
	dir, state string
	settings   string
}

func openWorkspace(t testing.TB) *workspace {
	w := &workspace{t, t.TempDir(), t.TempDir(), "[project]\njobs = 2\n"}
	require.NoError(t, os.Mkdir(filepath.Join(w.dir, "build"), 0o755))
	for chain := range 10 {
		var last string
		for link := range 5 {
			name := fmt.Sprintf("step-%d-%d", chain, link)
			require.NoError(t, os.WriteFile(filepath.Join(w.dir, name+".csv"), []byte(name), 0o644))
			w.settings += fmt.Sprintf(`
[task.%[1]s]
run = "echo + >> tasks.log; sleep 0.1; cat %[1]s.csv %[2]s > build/%[1]s; echo - >> tasks.log"
watch = ["%[1]s.csv"]
outputs = ["build/%[1]s"]
reuse = true
`, name, last)
			if last != "" {
				w.settings += fmt.Sprintf("follows = [%q]\n", filepath.Base(last))
			}
			last = "build/" + name
		}
		w.settings += fmt.Sprintf(`
[service.pier-%d]
run = "exec sleep 1000"
follows = [%q]
ready = { after = "1ms" }
`, chain, filepath.Base(last))
	}
	return w
}

// start starts the workspace, and returns when everything is ready.
func (w *workspace) start() *running {
	r := runAgain(w.t, w.dir, w.settings, w.state)
	for chain := range 10 {
		r.says(fmt.Sprintf("pier-%d is ready", chain), 1)
	}
	return r
}

// tasks returns how many have run so far, and how many at most at once.
func (w *workspace) tasks() (runs, most int) {
	log, err := os.ReadFile(filepath.Join(w.dir, "tasks.log"))
	require.NoError(w.t, err)
	now := 0
	for _, sign := range strings.Fields(string(log)) {
		if sign == "-" {
			now--
			continue
		}
		now++
		runs, most = runs+1, max(most, now)
	}
	return runs, most
}

func TestWorkspaceOfSixty(t *testing.T) {
	t.Parallel()
	w := openWorkspace(t)
	r := w.start()
	runs, most := w.tasks()
	assert.Equal(t, 50, runs)
	assert.Equal(t, 2, most, "two are busy, and never more")
	r.stop()

	r = w.start()
	r.says("reused", 50)
	runs, _ = w.tasks()
	assert.Equal(t, 50, runs, "nothing runs at the second start")
	r.write("step-3-3.csv", "dearer")
	r.says("pier-3 is ready", 2)
	runs, _ = w.tasks()
	assert.Equal(t, 52, runs, "what was written, and what follows it")
	r.stop()

	overwrite(t, filepath.Join(w.dir, "step-7-0.csv"), "STEP-7-0")
	require.NoError(t, os.Remove(filepath.Join(w.dir, "build/step-8-4")))
	r = w.start()
	runs, _ = w.tasks()
	assert.Equal(t, 52+5, runs, "a chain whose first input was written while nothing ran")
	r.says("step-8-4 restored", 1)
	made, err := os.ReadFile(filepath.Join(w.dir, "build/step-8-4"))
	require.NoError(t, err)
	assert.Equal(t, "step-8-4step-8-3step-8-2step-8-1step-8-0", string(made))
}

// checkOut writes the first file of every chain, as a switch to another branch does, and returns how long it took until
// everything was at rest.
func (w *workspace) checkOut(r *running, branch string, ripple int) time.Duration {
	began := time.Now()
	for chain := range 10 {
		r.replace(fmt.Sprintf("step-%d-0.csv", chain), branch)
	}
	r.says(fmt.Sprintf("ripple %d: current", ripple), 1)
	return time.Since(began)
}

// BenchmarkWorkspace measures the start of the workspace, from the command until everything is ready: the first time,
// and again when all results can be reused; and then how long a switch to another branch takes until everything is at
// rest, the first time and when that branch was built before. Busy is the part of two processors that the tasks, which
// sleep for 0.1 s each, have used.
func BenchmarkWorkspace(b *testing.B) {
	var cold, again, built, restored []time.Duration
	for range 5 {
		w := openWorkspace(b)
		for _, times := range []*[]time.Duration{&cold, &again} {
			began := time.Now()
			r := w.start()
			*times = append(*times, time.Since(began))
			r.stop()
		}
		r := w.start()
		built = append(built, w.checkOut(r, "west", 2))
		restored = append(restored, w.checkOut(r, "east", 3)) // built once more: it was named as its file
		for n := range 4 {
			restored[len(restored)-1] = w.checkOut(r, []string{"west", "east"}[n%2], 4+n)
		}
		r.stop()
	}
	b.ReportMetric(median(built).Seconds(), "switch-built-s")
	b.ReportMetric(median(restored).Seconds(), "switch-restored-s")
	b.ReportMetric(100*50*0.1/2/median(cold).Seconds(), "%busy")
	b.ReportMetric(median(cold).Seconds(), "cold-s")
	b.ReportMetric(median(again).Seconds(), "reused-s")
}
