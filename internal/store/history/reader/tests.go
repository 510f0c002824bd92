package reader

import (
	"cmp"
	"context"
	"database/sql"
	"errors"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/api/past"
	"omnivigil/internal/store/history/cases"
	"omnivigil/internal/trend"
)

// packed is a run whose results are stored one by one.
type packed struct {
	run    int64
	unit   int64
	began  int64
	same   bool
	loaded bool
}

// testSum is what is known of a test.
type testSum struct {
	cases.Daily
	lastFailed int64
	failedIn   []int64 // runs
	ranIn      int     // runs that are stored one by one
	unit       int64
}

// tests summarizes the results of tests.
func (r *Reader) tests(ctx context.Context, q past.Query) ([]past.Test, bool, error) {
	sums, runs, err := r.sumTests(ctx, q)
	if err != nil {
		return nil, false, err
	}
	if err := r.addDays(ctx, q, sums); err != nil {
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
		s := sums[id]
		if s == nil {
			return nil
		}
		rate := trend.RateOf(s.Failed, s.Runs)
		t.Runs, t.Failed, t.Flaky, t.Low, t.High = s.Runs, s.Failed, s.Flaky, rate.Low, rate.High
		t.Median = micro(cases.Quartiles(s.Took)[2])
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
	if err := r.coincide(ctx, all, ids, sums, runs); err != nil {
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

// sumTests adds up the results that are stored run by run. It returns these runs too, without their results.
func (r *Reader) sumTests(ctx context.Context, q past.Query) (map[int64]*testSum, []packed, error) {
	sums, runs := map[int64]*testSum{}, []packed(nil)
	only, err := r.testOf(ctx, q)
	if err != nil {
		return nil, nil, err
	}
	w := conditionOf(q, "result.began", "unit.name")
	rows, err := r.db.QueryContext(ctx, `SELECT run.id, result.unit, result.began, same, loaded, cases FROM result
		JOIN run ON run.id = result.run JOIN unit ON unit.id = result.unit`+w.String()+
		" AND cases IS NOT NULL ORDER BY result.began", w.args...)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var p packed
		var text sql.RawBytes
		if err := rows.Scan(&p.run, &p.unit, &p.began, &p.same, &p.loaded, &text); err != nil {
			return err
		}
		runs = append(runs, p)
		return cases.Each(text, func(test, status, took int64) {
			if only != 0 && test != only {
				return
			}
			s := sums[test]
			if s == nil {
				s = &testSum{Daily: cases.Daily{Last: -1}, unit: p.unit}
				sums[test] = s
			}
			s.ranIn++
			if s.Add(status, took, p.same); status == 1 {
				s.lastFailed = p.began
				s.failedIn = append(s.failedIn, p.run)
			}
		})
	})
	return sums, runs, err
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

// addDays adds the results of which only the sums of days are left.
func (r *Reader) addDays(ctx context.Context, q past.Query, sums map[int64]*testSum) error {
	q.Branch = "" // days are of all branches
	only, err := r.testOf(ctx, q)
	if err != nil {
		return err
	}
	w := conditionOf(q, "day * 86400000", "unit.name")
	if only != 0 {
		w.add("test = ?", only)
	}
	rows, err := r.db.QueryContext(ctx, `SELECT test, day, runs, failed, flaky, median, test.unit FROM test_day
		JOIN test ON test.id = test JOIN unit ON unit.id = test.unit`+w.String(), w.args...)
	return collect(rows, err, func(rows *sql.Rows) error {
		var test, number, median, unit int64
		var runs, failed, flaky int
		if err := rows.Scan(&test, &number, &runs, &failed, &flaky, &median, &unit); err != nil {
			return err
		}
		s := sums[test]
		if s == nil {
			s = &testSum{unit: unit}
			sums[test] = s
		}
		s.Runs, s.Failed, s.Flaky = s.Runs+runs, s.Failed+failed, s.Flaky+flaky
		if median > 0 {
			s.Took = append(s.Took, median)
		}
		if failed > 0 {
			s.lastFailed = max(s.lastFailed, (number+1)*dayLength.Milliseconds()-1)
		}
		return nil
	})
}

// coincide finds what the failures of flaky tests coincide with: load, or runs of other tasks and suites.
func (r *Reader) coincide(ctx context.Context, all []past.Test, ids map[int]int64, sums map[int64]*testSum,
	runs []packed,
) error {
	var with map[string]map[int64]bool // by what, the runs
	of := map[int64]int{}              // by unit, how many runs
	for i := range all {
		s := sums[ids[i]]
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
func (r *Reader) overlapping(ctx context.Context, runs []packed) (map[string]map[int64]bool, error) {
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
