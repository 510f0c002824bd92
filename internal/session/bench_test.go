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
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/process"
	"omnivigil/internal/watch"
)

// BenchmarkLargeChange writes 50,000 files that affect ten tasks, and measures the time from the end of the debounce
// until all ten have started. Processes are doubles that end at once.
func BenchmarkLargeChange(b *testing.B) {
	const folders, files, units = 500, 100, 10
	root := b.TempDir()
	text := "[project]\njobs = 10\n"
	for n := range units {
		text += fmt.Sprintf("[task.t%d]\nrun = \"t%d\"\nwatch = [\"**/*.txt\"]\ndebounce = \"2s\"\n", n, n)
	}
	file := filepath.Join(root, plan.FileName)
	require.NoError(b, os.WriteFile(file, []byte(text), 0o600))
	p, err := settings.Read(file)
	require.NoError(b, err)
	w, err := watch.Open(root, 0)
	require.NoError(b, err)
	sp := &spawner{}
	book := logbook.Open(b.TempDir(), logbook.Options{})
	b.Cleanup(func() { book.Close() })
	s, err := Start(
		Config{
			Plan:    p,
			Book:    book,
			State:   b.TempDir(),
			Watch:   func(int) (Watcher, error) { return w, nil },
			Spawner: sp,
		},
	)
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

// endAll ends all processes with exit status 0 and returns how many there were.
func (s *spawner) endAll() int {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, p := range s.all {
		p.exit(process.Exit{})
	}
	return len(s.all)
}

// BenchmarkEvent measures what one event costs the loop, including the work of notifying faces: a file that affects
// one unit is written and restored, in projects of several sizes.
func BenchmarkEvent(b *testing.B) {
	for _, n := range []int{10, 100, 1000} {
		b.Run(fmt.Sprintf("units=%d", n), func(b *testing.B) {
			text := ""
			for i := range n {
				text += fmt.Sprintf(
					"[service.s%d]\nrun = \"s%d\"\nwatch = [\"s%d/*.go\"]\nready = { after = \"1ms\" }\n",
					i,
					i,
					i,
				)
			}
			file := filepath.Join(b.TempDir(), plan.FileName)
			require.NoError(b, os.WriteFile(file, []byte(text), 0o600))
			p, err := settings.Read(file)
			require.NoError(b, err)
			w := &watcher{events: make(chan watch.Event)}
			book := logbook.Open(b.TempDir(), logbook.Options{})
			b.Cleanup(func() { book.Close() })
			s, err := Start(
				Config{
					Plan:    p,
					Book:    book,
					State:   b.TempDir(),
					Watch:   func(int) (Watcher, error) { return w, nil },
					Spawner: &spawner{},
				},
			)
			require.NoError(b, err)
			require.Eventually(
				b,
				func() bool { return s.state().Verdict.Word == engine.VerdictCurrent },
				time.Minute,
				time.Millisecond,
			)
			b.ResetTimer()
			for i := range b.N / 2 {
				keys := []string{fmt.Sprintf("s%d", i%n)}
				w.events <- watch.Touched{Burst: i + 1, Keys: keys, Written: []time.Time{time.Now()}}
				w.events <- watch.Unchanged{Burst: i + 1, Keys: keys}
			}
			b.StopTimer()
			s.Request(engine.QuitNow)
			<-s.Done()
		})
	}
}
