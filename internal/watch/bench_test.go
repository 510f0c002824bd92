package watch

import "omnivigil/internal/watch/pattern"

import (
	"fmt"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// BenchmarkBurst writes 100,000 files in 1,000 new directories as fast as it can, and measures the time until all of
// them have been reported.
func BenchmarkBurst(b *testing.B) {
	const folders, files = 1000, 100
	root := b.TempDir()
	w, err := Open(root, 0)
	require.NoError(b, err)
	defer w.Close()
	w.SetInterests([]pattern.Interest{{Key: "all", Rules: rules("**/*.go"), Debounce: 150 * time.Millisecond}}, 0)
	awaitWatching(w, 0)
	for round := range b.N {
		told := make(chan int)
		go func() {
			seen := 0
			for seen < folders*files {
				if c, ok := (<-w.Events()).(Change); ok {
					for _, h := range c.Hits {
						seen += 1 + h.More
					}
				}
			}
			told <- seen
		}()
		began := time.Now()
		for d := range folders {
			dir := filepath.Join(root, fmt.Sprint(round), fmt.Sprint(d))
			require.NoError(b, os.MkdirAll(dir, 0o755))
			for f := range files {
				require.NoError(b, os.WriteFile(fmt.Sprintf("%s/%d.go", dir, f), []byte("x"), 0o644))
			}
		}
		wrote := time.Since(began)
		select {
		case <-told:
		case <-time.After(time.Minute):
			b.Fatal("not all were told")
		}
		b.ReportMetric(float64(wrote.Milliseconds()), "write-ms")
		b.ReportMetric(float64((time.Since(began) - wrote).Milliseconds()), "then-told-ms")
	}
}
