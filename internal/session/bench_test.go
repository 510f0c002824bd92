package session

import (
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/spawn"
	"omnivigil/internal/watch"
)

// BenchmarkLargeChange writes 50,000 files that concern ten tasks, and measures from the
// moment when they have been quiet for the debounce until all ten were started. Processes
// are doubles that end at once.
func BenchmarkLargeChange(b *testing.B) {
	const folders, files, units = 500, 100, 10
	root := b.TempDir()
	settings := "[project]\njobs = 10\n"
	for n := range units {
		settings += fmt.Sprintf("[task.t%d]\nrun = \"t%d\"\nwatch = [\"**/*.txt\"]\ndebounce = \"2s\"\n", n, n)
	}
	file := filepath.Join(root, plan.FileName)
	require.NoError(b, os.WriteFile(file, []byte(settings), 0o600))
	p, err := plan.Read(file)
	require.NoError(b, err)
	w, err := watch.Open(root)
	require.NoError(b, err)
	sp := &spawner{}
	s, err := Start(Config{Plan: p, Book: &book{}, State: b.TempDir(), Watcher: w, Spawner: sp})
	require.NoError(b, err)
	changed, release := s.Changed()
	defer release()
	started := func(n int) time.Time {
		for {
			if sp.endAll() >= n {
				return time.Now()
			}
			select {
			case <-changed:
			case <-time.After(time.Millisecond):
			}
		}
	}
	started(units)
	var took []time.Duration
	for round := range b.N {
		for d := range folders {
			dir := filepath.Join(root, fmt.Sprint(d))
			require.NoError(b, os.MkdirAll(dir, 0o700))
			for f := range files {
				require.NoError(b, os.WriteFile(fmt.Sprintf("%s/%d.txt", dir, f), fmt.Append(nil, round), 0o600))
			}
		}
		last := time.Now()
		took = append(took, started(units*(round+2)).Sub(last)-2*time.Second)
	}
	slices.Sort(took)
	b.ReportMetric(float64(took[len(took)/2].Microseconds())/1000, "ms-median")
	b.ReportMetric(float64(took[len(took)-1].Microseconds())/1000, "ms-worst")
	b.ReportMetric(0, "ns/op")
	b.StopTimer()
	s.Request(engine.QuitNow)
	<-s.Done()
}

// endAll ends all processes well, and returns how many there were.
func (s *spawner) endAll() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.all {
		p.exit(spawn.Exit{})
	}
	return len(s.all)
}
