package reader

import (
	"context"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/output/lens"
	"omnivigil/internal/output/logbook"
)

// linesOfLog is the number of lines in the log of the benchmarks: 1 GB of text with OMNIVIGIL_LINES=16000000.
func linesOfLog() int {
	if n, err := strconv.Atoi(os.Getenv("OMNIVIGIL_LINES")); err == nil {
		return n
	}
	return 1_000_000
}

// large creates a log of 20 units in runs of 1,000 lines, of a day of the ferries: every line is different, one in a
// hundred names a captain, one in 100,000 a kraken.
func large(b *testing.B) *logbook.Book {
	book := logbook.Open(b.TempDir(), logbook.Options{})
	b.Cleanup(func() { book.Close() })
	n := linesOfLog()
	texts := make([]string, 0, 50)
	for i := 0; i < n; i += 50 {
		texts = texts[:0]
		for k := i; k < i+50; k++ {
			text := fmt.Sprintf("berth %08d takes the tide at %05d", k, k*7919%100000)
			switch {
			case k%100_000 == 77_777:
				text = "kraken " + text
			case k%100 == 7:
				text += " captain Wren"
			}
			texts = append(texts, text)
		}
		book.Append(
			logbook.Entry{Unit: fmt.Sprintf("unit-%02d", i/50%20), Run: i/20_000 + 1, Ripple: i/100_000 + 1},
			texts...)
	}
	book.Flush()
	return book
}

// BenchmarkWindow reads 50 lines in the middle of a log, with each filter that the index supports.
func BenchmarkWindow(b *testing.B) {
	book := large(b)
	n := int64(linesOfLog())
	census := &lens.Census{}
	for _, filter := range []string{"", "unit=unit-07", "unit=unit-07 run=25", "ripple=5",
		"!unit=unit-07,unit-08 !ripple=6"} {
		for name, q := range map[string]api.LineQuery{
			"from": {Filter: filter, Count: 50, From: n / 2}, "before": {Filter: filter, Count: 50, End: n / 2},
			"last":    {Filter: filter, Count: 50, Last: true},
			"similar": {Filter: filter, Count: 50, Last: true, Similar: true, New: true, Values: true},
		} {
			b.Run(filter+" "+name, func(b *testing.B) {
				for b.Loop() {
					_, err := Log{Source: book, Census: census}.Lines(b.Context(), q)
					require.NoError(b, err)
				}
			})
		}
	}
	b.Run("of another process", func(b *testing.B) {
		for b.Loop() {
			page, err := Near(book.Dir(), nil, nil).Lines(b.Context(), api.LineQuery{Last: true, Count: 50})
			require.NoError(b, err)
			require.Len(b, page.Lines, 50)
		}
	})
}

// BenchmarkSearch counts matches, alternately with grep on the same files.
func BenchmarkSearch(b *testing.B) {
	book := large(b)
	files, _ := filepath.Glob(filepath.Join(book.Dir(), "*.log"))
	for _, test := range []struct{ pattern, flag, grep string }{
		{"kraken", "-F", "kraken"},
		{"Captain", "-F", "Captain"}, // nowhere
		{"captain", "-F", "captain"},
		{"Wren", "-F", "Wren"},
		{"/kraken berth [0-9]+7/", "-E", "kraken berth [0-9]+7"},
		{"/tide at [0-9]+ captain/", "-E", "tide at [0-9]+ captain"},
		{"/0{5}[0-9]+ takes/", "-E", "0{5}[0-9]+ takes"},
	} {
		b.Run(strings.Trim(test.pattern, "/"), func(b *testing.B) {
			var ours, theirs, first time.Duration
			for b.Loop() {
				began := time.Now()
				cmd := exec.Command("grep", append([]string{test.flag, "-h", "-c", "-e", test.grep}, files...)...)
				cmd.Env = append(os.Environ(), "LC_ALL=C")
				out, _ := cmd.Output()
				theirs += time.Since(began)
				want := int64(0)
				for _, n := range strings.Fields(string(out)) {
					n, _ := strconv.ParseInt(n, 10, 64)
					want += n
				}
				began = time.Now()
				var last api.Found
				seen := false
				err := Log{
					Source: book,
				}.Search(
					context.Background(),
					api.SearchQuery{Pattern: test.pattern, Back: true, From: int64(linesOfLog()), Most: 1, Count: true},
					func(f api.Found) error {
						if len(f.Lines) > 0 && !seen {
							seen, first = true, first+time.Since(began)
						}
						last = f
						return nil
					},
				)
				ours += time.Since(began)
				require.NoError(b, err)
				require.Equal(b, want, last.Matches)
			}
			b.ReportMetric(float64(ours)/float64(theirs), "times-grep")
			b.ReportMetric(ours.Seconds()/float64(b.N), "ours-s")
			b.ReportMetric(float64(first.Milliseconds())/float64(b.N), "first-ms")
		})
	}
}
