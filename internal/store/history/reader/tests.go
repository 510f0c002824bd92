package reader

import (
	"cmp"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api/past"
	"omnivigil/internal/store/history/cases"
	"omnivigil/internal/trend"
)

// ran is a run of a unit with tests.
type ran struct {
	run, unit, began int64
	loaded           bool
}

// testSum is what is known of a test.
type testSum struct {
	cases.Daily
	median     int64 // of days, weighted by their runs; microseconds
	lastFailed int64
	failedIn   []int64 // runs
	unit       int64
}

// testsFor is how far back tests are summarized, if a query does not say.
const testsFor = 30

// sums are the sums of tests, by their numbers.
type sums map[int64]*testSum

func (s sums) of(test, unit int64) *testSum {
	if s[test] == nil {
		s[test] = &testSum{Daily: cases.Daily{Last: -1}, unit: unit}
	}
	return s[test]
}

// tests summarizes the results of tests.
func (r *Reader) tests(ctx context.Context, q past.Query) ([]past.Test, bool, error) {
	if q.Since.IsZero() {
		q.Since = time.Now().AddDate(0, 0, -testsFor)
	}
	only, err := r.testOf(ctx, q)
	if err != nil || only < 0 {
		return nil, false, err
	}
	known := sums{}
	if err := r.addDays(ctx, q, only, known); err != nil {
		return nil, false, err
	}
	from, err := r.summarized(ctx)
	if err != nil {
		return nil, false, err
	}
	if err := r.addNewest(ctx, latest(q, from), only, known); err != nil {
		return nil, false, err
	}
	runs, err := r.addFailures(ctx, q, only, known)
	if err != nil {
		return nil, false, err
	}
	var all []past.Test
	ids := map[int]int64{}
	rows, err := r.db.QueryContext(
		ctx,
		"SELECT test.id, unit.name, suite, test.name FROM test JOIN unit ON unit.id = unit",
	)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var id int64
		var t past.Test
		if err := rows.Scan(&id, &t.Unit, &t.Suite, &t.Name); err != nil {
			return err
		}
		s := known[id]
		if s == nil {
			return nil
		}
		rate := trend.RateOf(s.Failed, s.Runs)
		t.Runs, t.Failed, t.Flaky, t.Low, t.High = s.Runs, s.Failed, s.Flaky, rate.Low, rate.High
		if t.Median = micro(s.median); s.median == 0 {
			t.Median = micro(cases.Quartiles(s.Took)[2])
		}
		if s.lastFailed > 0 {
			t.LastFailed = time.UnixMilli(s.lastFailed)
		}
		ids[len(all)] = id
		all = append(all, t)
		return nil
	})
	if err != nil {
		return nil, false, err
	}
	if err := r.coincide(ctx, all, ids, known, runs); err != nil {
		return nil, false, err
	}
	slices.SortStableFunc(all, func(a, b past.Test) int {
		return cmp.Or(
			b.Flaky-a.Flaky,
			cmp.Compare(b.Low, a.Low),
			strings.Compare(a.Unit+a.Suite+a.Name, b.Unit+b.Suite+b.Name),
		)
	})
	all, more := cut(all, q)
	return all, more, nil
}

// addNewest adds the results of days that are not summarized yet. The newest runs come first in the join, not all
// results of a unit.
func (r *Reader) addNewest(ctx context.Context, q past.Query, only int64, known sums) error {
	w := conditionOf(q, "ended", "unit.name")
	rows, err := r.db.QueryContext(ctx, `SELECT result.unit, same, cases FROM run
		CROSS JOIN result ON result.run = run.id JOIN unit ON unit.id = result.unit`+w.String()+
		" AND cases IS NOT NULL ORDER BY ended", w.args...)
	return collect(rows, err, func(rows *sql.Rows) error {
		var unit int64
		var same bool
		var text sql.RawBytes
		if err := rows.Scan(&unit, &same, &text); err != nil {
			return err
		}
		return cases.Each(text, func(test, status, took int64) {
			if only == 0 || test == only {
				known.of(test, unit).Add(status, took, same)
			}
		})
	})
}

// failuresFor is how many days back is looked for what failures coincide with.
const failuresFor = 14

// addFailures notes in which of the last runs tests have failed, and returns these runs.
func (r *Reader) addFailures(ctx context.Context, q past.Query, only int64, known sums) (runs []ran, err error) {
	if kept := time.Now().AddDate(0, 0, -failuresFor); q.Since.Before(kept) {
		q.Since = kept
	}
	w := conditionOf(q, "result.began", "unit.name")
	rows, err := r.db.QueryContext(ctx, `SELECT run.id, result.unit, result.began, loaded, failures FROM result
		JOIN run ON run.id = result.run JOIN unit ON unit.id = result.unit`+w.String()+" ORDER BY result.began", w.args...)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var p ran
		var text []byte
		var failed []int64
		if err := rows.Scan(&p.run, &p.unit, &p.began, &p.loaded, &text); err != nil {
			return err
		}
		if err := json.Unmarshal(text, &failed); err != nil {
			return err
		}
		runs = append(runs, p)
		for _, test := range failed {
			if s := known[test]; s != nil && (only == 0 || test == only) {
				s.lastFailed = p.began
				s.failedIn = append(s.failedIn, p.run)
			}
		}
		return nil
	})
	return runs, err
}

// testOf returns the number of the test that a query names; 0: it names none, or -1: it is not known.
func (r *Reader) testOf(ctx context.Context, q past.Query) (id int64, err error) {
	if q.Test.Suite == "" && q.Test.Name == "" || len(q.Units) == 0 {
		return 0, nil
	}
	err = r.db.QueryRowContext(ctx, `SELECT test.id FROM test JOIN unit ON unit.id = test.unit WHERE unit.name = ?
		AND suite = ? AND test.name = ?`, q.Units[0], q.Test.Suite, q.Test.Name).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return -1, nil
	}
	return id, err
}

// addDays adds the days that are summarized.
func (r *Reader) addDays(ctx context.Context, q past.Query, only int64, known sums) error {
	w := ofDays(q)
	if only != 0 {
		w.add("test = ?", only)
	}
	rows, err := r.db.QueryContext(ctx, `SELECT test, test.unit, sum(runs), sum(failed), sum(flaky),
		sum(median * (runs - failed)) / max(sum(runs - failed), 1), coalesce(max(CASE WHEN failed > 0 THEN day END), -1)
		FROM test_day
		JOIN test ON test.id = test JOIN unit ON unit.id = test.unit`+w.String()+" GROUP BY test", w.args...)
	return collect(rows, err, func(rows *sql.Rows) error {
		var test, unit, median, last int64
		var runs, failed, flaky int
		if err := rows.Scan(&test, &unit, &runs, &failed, &flaky, &median, &last); err != nil {
			return err
		}
		s := known.of(test, unit)
		if s.Runs, s.Failed, s.Flaky, s.median = runs, failed, flaky, median; last >= 0 {
			s.lastFailed = cases.Start(last).UnixMilli()
		}
		return nil
	})
}

// coincide finds what the failures of flaky tests coincide with: load, or runs of other tasks and suites.
func (r *Reader) coincide(ctx context.Context, all []past.Test, ids map[int]int64, known sums,
	runs []ran,
) error {
	var with map[string]map[int64]bool // by what, the runs
	of := map[int64]int{}              // by unit, how many runs
	for i := range all {
		s := known[ids[i]]
		if s.Flaky == 0 || len(s.failedIn) < 4 {
			continue
		}
		if with == nil {
			var err error
			if with, err = r.overlapping(ctx, runs); err != nil {
				return err
			}
			with[past.Load] = map[int64]bool{}
			for _, p := range runs {
				of[p.unit]++
				with[past.Load][p.run] = p.loaded
			}
		}
		for what, in := range with {
			failed, passed := 0, 0
			for _, p := range runs {
				if p.unit == s.unit && in[p.run] {
					if slices.Contains(s.failedIn, p.run) {
						failed++
					} else {
						passed++
					}
				}
			}
			c := trend.Coincidence{
				FailedWith: failed, FailedWithout: len(s.failedIn) - failed, PassedWith: passed,
				PassedWithout: of[s.unit] - len(s.failedIn) - passed,
			}
			if c.Significant(len(with)) {
				all[i].Coincides = append(all[i].Coincides, what)
			}
		}
		slices.Sort(all[i].Coincides)
	}
	return nil
}

// overlapping returns, by other tasks and suites, the runs during which these ran.
func (r *Reader) overlapping(ctx context.Context, runs []ran) (map[string]map[int64]bool, error) {
	with := map[string]map[int64]bool{}
	if len(runs) == 0 {
		return with, nil
	}
	// A run overlaps with those that began at most so long before it.
	rows, err := r.db.QueryContext(ctx, `SELECT run.id, unit.name FROM result JOIN run ON run.id = result.run
		JOIN run AS other ON other.began < run.ended AND other.began > run.began - 600000 AND other.ended > run.began
		AND other.unit != run.unit JOIN unit ON unit.id = other.unit AND unit.kind IN ('task', 'suite')
		WHERE result.began >= ?`, runs[0].began)
	return with, collect(rows, err, func(rows *sql.Rows) error {
		var run int64
		var unit string
		if err := rows.Scan(&run, &unit); err != nil {
			return err
		}
		if with[unit] == nil {
			with[unit] = map[int64]bool{}
		}
		with[unit][run] = true
		return nil
	})
}
