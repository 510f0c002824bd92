package madeup

import (
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/store/history"
	"omnivigil/internal/store/history/database"
	"omnivigil/internal/store/history/reader"
)

// TestFerries checks that a month of the demo reports each of its stories once, and nothing else.
func TestFerries(t *testing.T) {
	trends, err := Ferries(time.Now()).Write(t.TempDir(), history.Limits{})
	require.NoError(t, err)
	told := map[string]int{}
	for _, trend := range trends {
		told[string(trend.Kind)+" "+string(trend.Measure)+" "+trend.Unit+" "+trend.Test]++
		t.Log(trend.Since.Format("2 Jan 15:04"), trend.Unit, trend.Test, trend.Text, trend.Between)
	}
	assert.Equal(t, map[string]int{
		"higher duration timetable ": 1, "grows memory manifest ": 1,
		"flaky failures harbour tides/the buoy answers in time": 1,
	}, told)
}

// BenchmarkYear reads a history of a year: twenty units, two hundred saves a day and two thousand tests. It is written
// first, which takes minutes; OMNIVIGIL_YEAR names a directory in which it stays for the next time.
func BenchmarkYear(b *testing.B) {
	dir := os.Getenv("OMNIVIGIL_YEAR")
	if dir == "" {
		dir = b.TempDir()
	}
	if _, err := os.Stat(filepath.Join(dir, database.FileName)); err != nil {
		began := time.Now()
		trends, err := Year(time.Now()).Write(dir, history.Limits{Size: 500e6})
		require.NoError(b, err)
		b.Logf("written in %s; %d trends", time.Since(began).Round(time.Second), len(trends))
		for _, t := range trends {
			b.Log(t.Since.Format("2 Jan 15:04"), t.Measure, t.Unit, t.Suite, t.Test, t.Text)
		}
	}
	info, err := os.Stat(filepath.Join(dir, database.FileName))
	require.NoError(b, err)
	b.Logf("%d MB", info.Size()/1e6)
	r, err := reader.Read(dir)
	require.NoError(b, err)
	defer r.Close()
	b.Run("compare", func(b *testing.B) {
		for b.Loop() {
			_, err := r.Compare(b.Context(), past.Query{}, "main", "0000")
			require.NoError(b, err)
		}
		b.ReportMetric(float64(b.Elapsed().Microseconds())/1000/float64(b.N), "ms")
	})
	sessions, err := r.History(b.Context(), past.Query{What: past.Sessions, Count: 100})
	require.NoError(b, err)
	session := sessions.Sessions[99]
	for name, ask := range map[string]func() error{
		"session's state":    func() error { _, err := r.State(b.Context(), session.Name); return err },
		"session's tests":    func() error { _, err := r.CasesAt(b.Context(), session.Ended); return err },
		"session's findings": func() error { _, err := r.FindingsAt(b.Context(), session.Ended); return err },
		"session's samples":  func() error { _, err := r.Samples(b.Context(), session.Name, 0); return err },
		"session's verdict": func() error {
			_, err := r.VerdictAt(b.Context(), session.Name, api.VerdictQuery{At: session.Ended})
			return err
		},
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				require.NoError(b, ask())
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/1000/float64(b.N), "ms")
		})
	}
	for name, q := range map[string]past.Query{
		"units":       {What: past.Units},
		"runs":        {What: past.Runs, Units: []string{"suite0"}},
		"ripples":     {What: past.Ripples},
		"trends":      {What: past.Trends},
		"tests":       {What: past.Tests},
		"days":        {What: past.Days, Since: time.Now().AddDate(0, 0, -365)},
		"month":       {What: past.Days, Since: time.Now().AddDate(0, 0, -30)},
		"test":        {What: past.Tests, Units: []string{"suite0"}, Test: past.Test{Name: "case 7"}},
		"test's days": {What: past.Days, Units: []string{"suite0"}, Test: past.Test{Name: "case 7"}},
	} {
		b.Run(name, func(b *testing.B) {
			for b.Loop() {
				_, err := r.History(b.Context(), q)
				require.NoError(b, err)
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/1000/float64(b.N), "ms")
		})
	}
}
