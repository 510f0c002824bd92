package history

import (
	"database/sql"
	"fmt"
	"math"
	"math/rand/v2"
	"os"
	"os/exec"
	"path/filepath"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"omnivigil/internal/api"
	"omnivigil/internal/store/history/database"
)

// began is when the sessions of these tests begin.
var began = time.Date(2026, 3, 2, 9, 0, 0, 0, time.UTC)

// reports are what a writer reports.
type reports struct {
	mu       sync.Mutex
	problems []string
	trends   []Trend
}

func (r *reports) problem(text string) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.problems = append(r.problems, text)
}

func (r *reports) trend(t Trend) {
	r.mu.Lock()
	defer r.mu.Unlock()
	r.trends = append(r.trends, t)
}

// written writes a session, and returns what was reported.
func written(t *testing.T, dir, session string, limits Limits, write func(w *Writer)) *reports {
	t.Helper()
	r := &reports{}
	w := New(dir, Session{Name: session, Began: began}, limits, r.problem, r.trend)
	write(w)
	w.Close()
	return r
}

// value returns the only value of a query.
func value[T any](t *testing.T, dir, query string, args ...any) (v T) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, database.FileName))
	require.NoError(t, err)
	defer db.Close()
	require.NoError(t, db.QueryRow(query, args...).Scan(&v), query)
	return v
}

// ranAt is a run of a task.
func ranAt(number int, at time.Time, took time.Duration) Run {
	return Run{
		Unit: "fares", Kind: "task", State: api.Done, Took: took, Output: 40, Findings: 0,
		Run: api.Run{
			Number:    number,
			Ripples:   []int{number},
			Because:   "fares.csv changed",
			OrderedAt: at,
			EndedAt:   at.Add(took),
			Exit:      &api.Exit{Text: "exit 0"},
		},
		Revision: Revision{Hash: "c0ffee", Branch: "main", Clean: Changed},
	}
}

// TestWhatIsWritten reads what a writer has written as any SQLite client would.
func TestWhatIsWritten(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "deep", "history")
	r := written(t, dir, "one", Limits{}, func(w *Writer) {
		w.Tested(Results{Unit: "harbour", Kind: "suite", Run: 1, Began: began, Cases: []Case{
			{"tides", "high", api.CasePassed, 1500 * time.Microsecond}, {"tides", "low", api.CaseFailed, time.Second},
			{"tides", "spring", api.CaseSkipped, 0},
		}})
		w.Ran(Run{Unit: "harbour", Kind: "suite", State: api.Failed, Findings: -1,
			Run: api.Run{
				Number:    1,
				OrderedAt: began,
				EndedAt:   began.Add(2 * time.Second),
				Exit:      &api.Exit{Code: 1, Text: "exit 1"},
			}})
		w.Passed(Pass{Unit: "pages", Kind: "service", Run: 1, Pass: api.Pass{Number: 3, BeganAt: began,
			EndedAt: began.Add(time.Second), Good: true}})
		w.Ran(Run{Unit: "pages", Kind: "service", State: api.Stopped, Findings: 2,
			Run: api.Run{Number: 1, OrderedAt: began, ReadyAt: began.Add(time.Second), EndedAt: began.Add(time.Hour)}})
		w.Rested(Ripple{Ripple: api.Ripple{ID: 2, Title: "fares.csv", Since: began, RestAt: began.Add(3 * time.Second),
			Outcome: api.EndedBroken, Paths: []string{"fares.csv"},
			Runs: []*api.RunRef{{Unit: "pages"}, {Unit: "harbour"}, {Unit: "harbour"}}}})
		gone := api.Finding{Severity: api.SeverityError, Message: "no berth", Change: api.NewFinding}
		w.Found(Finding{Unit: "pages", Kind: "service", At: began, Finding: gone})
		w.Found(Finding{Unit: "pages", Kind: "service", At: began, Finding: gone}) // told again
		gone.Change = api.GoneFinding
		w.Found(Finding{Unit: "pages", Kind: "service", At: began.Add(time.Hour), Finding: gone})
		w.Used([]Sample{{Unit: "pages", Kind: "service", Run: 1, At: began, CPU: 0.5, Memory: 1 << 20, Output: 12}})
	})
	assert.Empty(t, r.problems)
	for query, want := range map[string]string{
		"SELECT count(*) || ' ' || (ended IS NOT NULL) FROM session":                         "1 1",
		"SELECT passed || failed || skipped || failures || cases FROM result":                "111[2][[1,0,1500],[2,1,1000000],[3,2,0]]",
		"SELECT suite || '/' || name FROM test WHERE id = 2":                                 "tides/low",
		"SELECT group_concat(outcome || ' ' || exit || ' ' || coalesce(took, '-')) FROM run": "failed exit 1 -,stopped  -",
		"SELECT number || ' ' || took || ' ' || good FROM pass":                              "3 1000000 1",
		"SELECT units || ' ' || paths || ' ' || rest FROM ripple":                            fmt.Sprintf(`harbour pages ["fares.csv"] %d`, began.Add(3*time.Second).UnixMilli()),
		"SELECT count(*) || ' ' || (gone - first) FROM finding":                              "1 3600000",
		"SELECT cpu || ' ' || memory || ' ' || output FROM sample":                           "0.5 1048576 12",
		"PRAGMA journal_mode":    "wal",
		"PRAGMA integrity_check": "ok",
	} {
		assert.Equal(t, want, value[string](t, dir, query), query)
	}
	entries, err := os.ReadDir(dir)
	require.NoError(t, err)
	for _, e := range entries {
		info, err := e.Info()
		require.NoError(t, err)
		assert.Equal(t, os.FileMode(0o600), info.Mode().Perm(), e.Name())
	}
}

// TestNewerVersion checks that a file of a newer program is left untouched, and that this is reported.
func TestNewerVersion(t *testing.T) {
	dir := t.TempDir()
	file := filepath.Join(dir, database.FileName)
	db, err := sql.Open("sqlite", file)
	require.NoError(t, err)
	_, err = db.Exec(fmt.Sprintf("CREATE TABLE wonder (x); PRAGMA user_version = %d", database.Version+1))
	require.NoError(t, err)
	require.NoError(t, db.Close())
	before, err := os.ReadFile(file)
	require.NoError(t, err)
	r := written(t, dir, "one", Limits{}, func(w *Writer) { w.Ran(ranAt(1, began, time.Second)) })
	assert.Equal(t, []string{"no history is written: " + database.ErrNewer.Error()}, r.problems)
	after, err := os.ReadFile(file)
	require.NoError(t, err)
	assert.Equal(t, before, after)
}

// TestUnwritable checks that a history that cannot be written is reported once and delays nothing.
func TestUnwritable(t *testing.T) {
	dir := filepath.Join(t.TempDir(), "file")
	require.NoError(t, os.WriteFile(dir, nil, 0o600))
	r := written(t, dir, "one", Limits{}, func(w *Writer) {
		for n := range 3 * maxPending {
			w.Ran(ranAt(n, began, time.Second))
		}
	})
	require.Len(t, r.problems, 1)
	assert.Contains(t, r.problems[0], "no history is written: ")
}

// TestTwoWriters writes from two sessions at the same time.
func TestTwoWriters(t *testing.T) {
	dir := t.TempDir()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, database.FileName)+"?mode=ro")
	require.NoError(t, err)
	t.Cleanup(func() { db.Close() })
	var done sync.WaitGroup
	for _, name := range []string{"one", "two"} {
		done.Go(func() {
			r := written(t, dir, name, Limits{}, func(w *Writer) {
				for n := range 500 {
					w.Ran(ranAt(n, began.Add(time.Duration(n)*time.Minute), time.Second))
				}
				assert.Eventually(t, func() bool { // a writer that is closed waits for the other one only for a while
					var n int
					return db.QueryRow("SELECT count(*) FROM run").Scan(&n) == nil && n == 1000
				}, 2*time.Minute, 10*time.Millisecond)
			})
			assert.Empty(t, r.problems)
		})
	}
	done.Wait()
	assert.Equal(t, 1000, value[int](t, dir, "SELECT count(*) FROM run"))
	assert.Equal(t, 1, value[int](t, dir, "SELECT count(*) FROM unit"))
}

// TestTurns checks that what does not fit into one turn is written in the next ones, also when the session ends.
func TestTurns(t *testing.T) {
	dir := t.TempDir()
	r := written(t, dir, "one", Limits{}, func(w *Writer) {
		w.turn = 0 // one entry in a turn
		for n := range 4 {
			w.Ran(ranAt(n, began.Add(time.Duration(n)*time.Minute), time.Second))
		}
	})
	assert.Empty(t, r.problems)
	assert.Equal(t, 4, value[int](t, dir, "SELECT count(*) FROM run"))
	assert.Equal(t, 1, value[int](t, dir, "SELECT count(*) FROM session WHERE ended IS NOT NULL"))
}

// TestKilled kills a process that writes, at random moments, and checks that the database stays intact.
func TestKilled(t *testing.T) {
	if dir := os.Getenv("HISTORY_OF"); dir != "" {
		w := New(dir, Session{Name: os.Getenv("HISTORY_SESSION"), Began: began}, Limits{}, func(string) {}, func(Trend) {})
		for n := 0; ; n++ {
			w.Ran(ranAt(n, began, time.Second))
			w.flushed()
		}
	}
	dir := t.TempDir()
	self, err := os.Executable()
	require.NoError(t, err)
	for n := range 20 {
		cmd := exec.Command(self, "-test.run", "^TestKilled$")
		cmd.Env = append(os.Environ(), "HISTORY_OF="+dir, fmt.Sprint("HISTORY_SESSION=", n))
		require.NoError(t, cmd.Start())
		time.Sleep(time.Duration(5+rand.IntN(60)) * time.Millisecond) // any moment will do, also before it writes
		require.NoError(t, cmd.Process.Kill())
		cmd.Wait()
	}
	r := written(t, dir, "last", Limits{}, func(w *Writer) { w.Ran(ranAt(1, began, time.Second)) })
	assert.Empty(t, r.problems)
	assert.Equal(t, "ok", value[string](t, dir, "PRAGMA integrity_check"))
	assert.Equal(t, 1, value[int](t, dir, "SELECT count(*) FROM session WHERE name = 'last' AND ended IS NOT NULL"))
}

// flushed waits until everything was written that had been added before.
func (w *Writer) flushed() {
	done := make(chan struct{})
	w.add(signal(done))
	<-done
}

type signal chan struct{}

func (s signal) write(*transaction) error { close(s); return nil }

// TestLimits checks what is thinned, packed and deleted with age and size.
func TestLimits(t *testing.T) {
	dir := t.TempDir()
	now := time.Now().UTC().Truncate(time.Hour)
	written(t, dir, "one", Limits{}, func(w *Writer) {
		for d := range 40 {
			at := now.Add(-time.Duration(d)*day - time.Hour)
			for n, status := range []api.CaseStatus{api.CasePassed, api.CaseFailed, api.CasePassed} {
				number := 3*d + n + 1
				w.Tested(Results{Unit: "fares", Kind: "task", Run: number, Began: at, Same: n > 0,
					Cases: []Case{{"tides", "low", status, time.Duration(n+1) * time.Second}}})
				w.Ran(ranAt(number, at.Add(time.Duration(n)*time.Minute), time.Second))
			}
			for s := range 30 {
				w.Used([]Sample{{Unit: "fares", Kind: "task", At: at.Add(time.Duration(s) * 4 * time.Second), Memory: int64(s)}})
			}
		}
	})
	written(t, dir, "two", Limits{Age: 30 * day}, func(*Writer) {})
	oldest := time.UnixMilli(value[int64](t, dir, "SELECT min(began) FROM run"))
	assert.WithinDuration(t, now.Add(-30*day), oldest, 26*time.Hour)
	assert.InDelta(t, 14, value[int](t, dir, "SELECT count(DISTINCT began / 86400000) FROM result WHERE cases IS NOT NULL"), 1)
	assert.InDelta(t, 30, value[int](t, dir, "SELECT count(*) FROM unit_day"), 2, "days that are over are summarized")
	assert.Equal(t, "3 1 2 1000000 3000000", value[string](t, dir,
		"SELECT runs || ' ' || failed || ' ' || flaky || ' ' || least || ' ' || most FROM test_day LIMIT 1"))
	assert.Equal(t, "1 30", value[string](t, dir,
		"SELECT min(n) || ' ' || max(n) FROM (SELECT count(*) AS n FROM sample GROUP BY at / 3600000)"), "old and new ones")

	size := value[int64](t, dir, "SELECT (page_count - freelist_count) * page_size FROM pragma_page_count, "+
		"pragma_freelist_count, pragma_page_size")
	written(t, dir, "three", Limits{Size: size - 4096}, func(*Writer) {})
	assert.Greater(t, value[int64](t, dir, "SELECT min(began) FROM run"), oldest.UnixMilli())
	assert.Positive(t, value[int](t, dir, "SELECT count(*) FROM run"), "the newest remain")
}

// TestTrends checks that what changes is reported once, with what was saved in between, also across sessions.
func TestTrends(t *testing.T) {
	dir, random := t.TempDir(), rand.New(rand.NewPCG(1, 2))
	number := 0
	session := func(name string, runs int, level float64) *reports {
		return written(t, dir, name, Limits{}, func(w *Writer) {
			for range runs {
				number++
				at := began.Add(time.Duration(number) * time.Minute)
				took := time.Duration(level * math.Exp(0.15*random.NormFloat64()) * float64(time.Second))
				w.Rested(Ripple{Ripple: api.Ripple{ID: number, Since: at, RestAt: at.Add(took), Outcome: api.EndedCurrent,
					Paths: []string{fmt.Sprintf("%d.csv", number)}, Runs: []*api.RunRef{{Unit: "fares"}}},
					Revision: Revision{Hash: fmt.Sprint("commit", number/40)}})
				run := ranAt(number, at, took)
				run.Revision.Hash = fmt.Sprint("commit", number/40)
				w.Ran(run)
			}
		})
	}
	assert.Empty(t, session("one", 60, 2).trends)
	first := session("two", 20, 4).trends
	require.Len(t, first, 2, "of the runs, and of the time to rest")
	for _, shift := range first {
		assert.Equal(t, Higher, shift.Kind)
		assert.InDelta(t, 61, shift.Run, 3)
		assert.InDelta(t, 2, shift.Before, 0.3)
		assert.InDelta(t, 4, shift.After, 0.6)
		assert.Contains(t, shift.Between.Files, fmt.Sprintf("%d.csv", shift.Run))
		assert.Regexp(t, `^1?[0-9]{2} % slower( to rest)? since (run|ripple) \d+: [34]\.\d+ s, before [12]\.\d+ s$`, shift.Text)
	}
	assert.Empty(t, session("three", 40, 4).trends, "it is not reported again")
	assert.Len(t, session("four", 20, 2).trends, 2, "the way back")
}

// TestFlaky checks that a test that fails without a change is reported once.
func TestFlaky(t *testing.T) {
	dir := t.TempDir()
	session := func(name string, from, to int) *reports {
		return written(t, dir, name, Limits{}, func(w *Writer) {
			for n := from; n < to; n++ {
				at := began.Add(time.Duration(n) * time.Minute)
				status := api.CasePassed
				if n%10 == 9 {
					status = api.CaseFailed
				}
				w.Tested(Results{Unit: "harbour", Kind: "suite", Run: n, Began: at, Same: true,
					Cases: []Case{{"tides", "low", status, time.Millisecond}, {"tides", "high", api.CasePassed, time.Millisecond}}})
				run := ranAt(n, at, time.Second)
				run.Unit, run.Kind = "harbour", "suite"
				w.Ran(run)
			}
		})
	}
	assert.Empty(t, session("one", 0, 15).trends)
	flaky := session("two", 15, 60).trends
	require.Len(t, flaky, 1)
	assert.Equal(t, [3]any{Flaky, "low", "fails without a change: 3 times so far"},
		[3]any{flaky[0].Kind, flaky[0].Test, flaky[0].Text})
	assert.Empty(t, session("three", 60, 100).trends)
}

// TestLeak checks that a service that leaks is reported while it runs, once.
func TestLeak(t *testing.T) {
	r := written(t, t.TempDir(), "one", Limits{}, func(w *Writer) {
		for s := range 3 * 3600 / 10 {
			w.Used([]Sample{{Unit: "berths", Kind: "service", Run: 4, At: began.Add(time.Duration(s) * 10 * time.Second),
				Memory: 80<<20 + int64(s)*33_333}})
		}
	})
	require.Len(t, r.trends, 1)
	assert.Equal(t, Grows, r.trends[0].Kind)
	assert.Regexp(t, `^memory grows by 12 MB an hour in run 4: `, r.trends[0].Text)
}

// BenchmarkSave writes what a hundred saves set off: three runs each, and their ripple; with tests, the results of two
// thousand. At one save a second, a percent of a core is ten milliseconds.
func BenchmarkSave(b *testing.B) {
	const saves = 100
	for name, tests := range map[string]int{"three runs": 0, "and 2,000 tests": 2000} {
		b.Run(name, func(b *testing.B) {
			cases := make([]Case, tests)
			for i := range cases {
				cases[i] = Case{Name: fmt.Sprint("case ", i), Status: api.CasePassed, Took: 40 * time.Millisecond}
			}
			dir, number := b.TempDir(), 0
			for b.Loop() {
				w := New(dir, Session{Name: fmt.Sprint(number), Began: began}, Limits{}, func(string) {}, func(Trend) {})
				for range saves {
					number++
					write(w, number, cases)
				}
				w.Close()
			}
			b.ReportMetric(float64(b.Elapsed().Microseconds())/1000/float64(b.N*saves), "ms/save")
		})
	}
}

// write writes what a save sets off.
func write(w *Writer, number int, cases []Case) {
	at := began.Add(time.Duration(number) * time.Second)
	for unit := range 3 {
		run := ranAt(number, at, time.Second+time.Duration(number%9)*20*time.Millisecond)
		run.Unit = fmt.Sprint("unit", unit)
		if unit == 0 && len(cases) > 0 {
			same := number%2 == 0
			w.Tested(Results{Unit: run.Unit, Kind: "suite", Run: number, Began: at, Same: same, Cases: cases})
		}
		w.Ran(run)
	}
	w.Rested(Ripple{Ripple: api.Ripple{
		ID: number, Since: at, RestAt: at.Add(time.Second), Outcome: api.EndedCurrent, Paths: []string{"fares.csv"},
		Runs: []*api.RunRef{{Unit: "unit0"}},
	}})
}
