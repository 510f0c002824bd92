package reader

import (
	"context"
	"database/sql"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/store/history/cases"
)

// dayLength is the length of the days that test_day counts.
const dayLength = 24 * time.Hour

// dayOf is the beginning of the day of a time, in the local time zone: that is when a user's day begins.
func dayOf(milliseconds int64) time.Time {
	t := time.UnixMilli(milliseconds)
	return time.Date(t.Year(), t.Month(), t.Day(), 0, 0, 0, 0, t.Location())
}

// days summarizes the runs of each unit on each day or, if a test is named, the results of that test.
func (r *Reader) days(ctx context.Context, q past.Query) ([]past.Day, error) {
	if q.Test.Suite != "" || q.Test.Name != "" {
		return r.testDays(ctx, q)
	}
	w := conditionOf(q, "began", "unit.name")
	rows, err := r.db.QueryContext(ctx, `SELECT unit.name, began, coalesce(took, 0), outcome, coalesce(memory, 0) FROM run
		JOIN unit ON unit.id = run.unit`+w.String()+" ORDER BY unit.id, began", w.args...)
	var all []past.Day
	var took, memory []int64
	finish := func() {
		if len(all) == 0 {
			return
		}
		d := &all[len(all)-1]
		d.Took, d.Memory = fiveOf(took, 1e-6), fiveOf(memory, 1)
		took, memory = took[:0], memory[:0]
	}
	err = collect(rows, err, func(rows *sql.Rows) error {
		var unit, outcome string
		var began, of, bytes int64
		if err := rows.Scan(&unit, &began, &of, &outcome, &bytes); err != nil {
			return err
		}
		day := dayOf(began)
		if n := len(all); n == 0 || all[n-1].Unit != unit || !all[n-1].Day.Equal(day) {
			finish()
			all = append(all, past.Day{Unit: unit, Day: day})
		}
		d := &all[len(all)-1]
		if d.Runs++; api.State(outcome).Broken() {
			d.Broken++
		}
		if of > 0 {
			took = append(took, of)
		}
		if bytes > 0 {
			memory = append(memory, bytes)
		}
		return nil
	})
	finish()
	return all, err
}

// fiveOf summarizes values, each multiplied by a factor. It sorts them.
func fiveOf(values []int64, factor float64) (f past.Five) {
	for i, v := range cases.Quartiles(values) {
		f[i] = float64(v) * factor
	}
	return f
}

// testDays summarizes the results of one test of a unit on each day.
func (r *Reader) testDays(ctx context.Context, q past.Query) ([]past.Day, error) {
	test, err := r.testOf(ctx, q)
	if err != nil || test <= 0 {
		return nil, err
	}
	unit := q.Units[0]
	var all []past.Day
	rows, err := r.db.QueryContext(ctx, `SELECT day, runs, failed, flaky, least, quarter, median, three, most FROM test_day
		WHERE test = ? ORDER BY day`, test)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var number int64
		var five [5]int64
		d := past.Day{Unit: unit}
		if err := rows.Scan(&number, &d.Runs, &d.Broken, &d.Flaky, &five[0], &five[1], &five[2], &five[3],
			&five[4]); err != nil {
			return err
		}
		for i, v := range five {
			d.Took[i] = float64(v) / 1e6
		}
		d.Day = dayOf(number*dayLength.Milliseconds() + dayLength.Milliseconds()/2)
		all = append(all, d)
		return nil
	})
	if err != nil {
		return nil, err
	}
	newest, err := r.newestDays(ctx, test, unit)
	all = append(all, newest...)
	all = slices.DeleteFunc(all, func(d past.Day) bool { return d.Day.Before(q.Since) })
	return all, err
}

// newestDays are those of a test whose results are stored one by one.
func (r *Reader) newestDays(ctx context.Context, test int64, unit string) (all []past.Day, err error) {
	rows, err := r.db.QueryContext(ctx, `SELECT began, same, cases FROM result WHERE unit = (SELECT unit FROM test
		WHERE id = ?) AND cases IS NOT NULL ORDER BY began`, test)
	var sum cases.Daily
	finish := func() {
		if n := len(all); n > 0 {
			d := &all[n-1]
			d.Runs, d.Broken, d.Flaky, d.Took = sum.Runs, sum.Failed, sum.Flaky, fiveOf(sum.Took, 1e-6)
		}
	}
	sum.Last = -1
	err = collect(rows, err, func(rows *sql.Rows) error {
		var began int64
		var same bool
		var text sql.RawBytes
		if err := rows.Scan(&began, &same, &text); err != nil {
			return err
		}
		return cases.Each(text, func(of, status, took int64) {
			if of != test {
				return
			}
			day := dayOf(began)
			if n := len(all); n == 0 || !all[n-1].Day.Equal(day) {
				finish()
				all = append(all, past.Day{Unit: unit, Day: day})
				sum = cases.Daily{Last: sum.Last}
			}
			sum.Add(status, took, same)
		})
	})
	finish()
	return all, err
}
