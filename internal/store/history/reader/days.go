package reader

import (
	"cmp"
	"context"
	"database/sql"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/api/seconds"
	"omnivigil/internal/store/history/cases"
)

// summarized returns the beginning of the first day that is not summarized yet: single runs are read from then on.
func (r *Reader) summarized(ctx context.Context) (time.Time, error) {
	var last sql.NullInt64
	err := r.db.QueryRowContext(ctx, "SELECT max(day) FROM unit_day").Scan(&last)
	if err != nil || !last.Valid {
		return time.Time{}, err
	}
	return cases.Start(last.Int64 + 1), nil
}

// latest limits a query to what is not summarized yet.
func latest(q past.Query, from time.Time) past.Query {
	if q.Since.Before(from) {
		q.Since = from
	}
	return q
}

// ofDays is the condition for rows that are summaries of days.
func ofDays(q past.Query) *where {
	days := q
	days.Since, days.Until, days.Branch = time.Time{}, time.Time{}, ""
	w := conditionOf(days, "", "unit.name")
	if !q.Since.IsZero() {
		w.add("day >= ?", cases.Day(q.Since.Local()))
	}
	if !q.Until.IsZero() {
		w.add("day <= ?", cases.Day(q.Until.Local()))
	}
	return w
}

// days summarizes the runs of each unit on each day or, if a test is named, the results of that test. A run belongs to
// the day on which it ended.
func (r *Reader) days(ctx context.Context, q past.Query) ([]past.Day, error) {
	if q.Test.Suite != "" || q.Test.Name != "" {
		return r.testDays(ctx, q)
	}
	var all []past.Day
	from := time.Time{}
	if q.Branch == "" { // summaries are of all branches
		var err error
		if from, err = r.summarized(ctx); err != nil {
			return nil, err
		}
		if all, err = r.unitDays(ctx, q); err != nil {
			return nil, err
		}
	}
	newest, err := r.newestUnitDays(ctx, latest(q, from))
	all = append(all, newest...)
	slices.SortStableFunc(all, func(a, b past.Day) int {
		return cmp.Or(cmp.Compare(a.Unit, b.Unit), a.Day.Compare(b.Day))
	})
	return all, err
}

// unitDays are the days that are summarized.
func (r *Reader) unitDays(ctx context.Context, q past.Query) (all []past.Day, err error) {
	w := ofDays(q)
	rows, err := r.db.QueryContext(ctx, `SELECT unit.name, unit.kind, day, runs, broken, least, quarter, median, three,
		most, memory, last, bad, good FROM unit_day JOIN unit ON unit.id = unit_day.unit`+w.String(), w.args...)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var d past.Day
		var number, memory, last, bad, good int64
		var five [5]int64
		if err := rows.Scan(&d.Unit, &d.Kind, &number, &d.Runs, &d.Broken, &five[0], &five[1], &five[2], &five[3], &five[4],
			&memory, &last, &bad, &good); err != nil {
			return err
		}
		d.Day, d.Took = cases.Start(number), secondsOf(five)
		for i := range d.Memory {
			d.Memory[i] = float64(memory)
		}
		d.LastAt, d.LastBad, d.LastGood = timeOf(last), timeOf(bad), timeOf(good)
		all = append(all, d)
		return nil
	})
	return all, err
}

// secondsOf are microseconds as seconds.
func secondsOf(five [5]int64) (f past.Five) {
	for i, v := range five {
		f[i] = float64(v) / 1e6
	}
	return f
}

// timeOf is a time as it is stored; 0: none.
func timeOf(milliseconds int64) time.Time {
	if milliseconds == 0 {
		return time.Time{}
	}
	return time.UnixMilli(milliseconds)
}

// newestUnitDays are the days of single runs.
func (r *Reader) newestUnitDays(ctx context.Context, q past.Query) (all []past.Day, err error) {
	w := conditionOf(q, "ended", "unit.name")
	rows, err := r.db.QueryContext(ctx, `SELECT unit.name, unit.kind, began, ended, coalesce(took, 0), outcome,
		coalesce(memory, 0) FROM run JOIN unit ON unit.id = run.unit`+w.String()+" ORDER BY unit.id, ended", w.args...)
	var took, memory []int64
	finish := func() {
		if n := len(all); n > 0 {
			all[n-1].Took = secondsOf(cases.Quartiles(took))
			for i, v := range cases.Quartiles(memory) {
				all[n-1].Memory[i] = float64(v)
			}
			took, memory = took[:0], memory[:0]
		}
	}
	err = collect(rows, err, func(rows *sql.Rows) error {
		var unit, kind, outcome string
		var began, ended, of, bytes int64
		if err := rows.Scan(&unit, &kind, &began, &ended, &of, &outcome, &bytes); err != nil {
			return err
		}
		day := cases.Start(cases.Day(time.UnixMilli(ended)))
		if n := len(all); n == 0 || all[n-1].Unit != unit || !all[n-1].Day.Equal(day) {
			finish()
			all = append(all, past.Day{Unit: unit, Kind: kind, Day: day})
		}
		d := &all[len(all)-1]
		d.Runs++
		d.LastAt = time.UnixMilli(began)
		if api.State(outcome).Broken() {
			d.Broken++
			d.LastBad = d.LastAt
		} else if of > 0 {
			d.LastGood = d.LastAt
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

// testDays summarizes the results of one test of a unit on each day.
func (r *Reader) testDays(ctx context.Context, q past.Query) ([]past.Day, error) {
	test, err := r.testOf(ctx, q)
	if err != nil || test <= 0 {
		return nil, err
	}
	var all []past.Day
	w := ofDays(past.Query{Since: q.Since, Until: q.Until})
	w.add("test = ?", test)
	rows, err := r.db.QueryContext(ctx, `SELECT day, runs, failed, flaky, least, quarter, median, three, most
		FROM test_day`+w.String()+" ORDER BY day", w.args...)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var number int64
		var five [5]int64
		d := past.Day{Unit: q.Units[0]}
		if err := rows.Scan(&number, &d.Runs, &d.Broken, &d.Flaky, &five[0], &five[1], &five[2], &five[3],
			&five[4]); err != nil {
			return err
		}
		d.Day, d.Took = cases.Start(number), secondsOf(five)
		all = append(all, d)
		return nil
	})
	if err != nil {
		return nil, err
	}
	from, err := r.summarized(ctx)
	if err != nil {
		return nil, err
	}
	newest, err := r.newestTestDays(ctx, latest(q, from), test)
	return append(all, newest...), err
}

// newestTestDays are the days of a test that are not summarized yet.
func (r *Reader) newestTestDays(ctx context.Context, q past.Query, test int64) (all []past.Day, err error) {
	w := conditionOf(q, "ended", "unit.name")
	rows, err := r.db.QueryContext(ctx, `SELECT ended, same, cases FROM run CROSS JOIN result ON result.run = run.id
		JOIN unit ON unit.id = result.unit`+w.String()+" AND cases IS NOT NULL ORDER BY ended", w.args...)
	sum := cases.Daily{Last: -1}
	finish := func() {
		if n := len(all); n > 0 {
			d := &all[n-1]
			d.Runs, d.Broken, d.Flaky, d.Took = sum.Runs, sum.Failed, sum.Flaky, secondsOf(cases.Quartiles(sum.Took))
		}
	}
	err = collect(rows, err, func(rows *sql.Rows) error {
		var ended int64
		var same bool
		var text sql.RawBytes
		if err := rows.Scan(&ended, &same, &text); err != nil {
			return err
		}
		return cases.Each(text, func(of, status, took int64) {
			if of != test {
				return
			}
			day := cases.Start(cases.Day(time.UnixMilli(ended)))
			if n := len(all); n == 0 || !all[n-1].Day.Equal(day) {
				finish()
				all = append(all, past.Day{Unit: q.Units[0], Day: day})
				sum = cases.Daily{Last: sum.Last}
			}
			sum.Add(status, took, same)
		})
	})
	finish()
	return all, err
}

// units summarizes the runs of units, those first whose runs are the most. Quartiles are those of the days, each day
// weighted by its good runs.
func (r *Reader) units(ctx context.Context, q past.Query) ([]past.Unit, error) {
	days, err := r.days(ctx, q)
	var all []past.Unit
	for len(days) > 0 {
		n := 1
		for n < len(days) && days[n].Unit == days[0].Unit {
			n++
		}
		all = append(all, unitOf(days[:n]))
		days = days[n:]
	}
	slices.SortStableFunc(all, func(a, b past.Unit) int { return b.Runs - a.Runs })
	return all, err
}

// unitOf summarizes the days of one unit.
func unitOf(days []past.Day) past.Unit {
	u := past.Unit{Unit: days[0].Unit, Kind: days[0].Kind}
	later := func(at *time.Time, than time.Time) {
		if than.After(*at) {
			*at = than
		}
	}
	var good []past.Day
	for _, d := range days {
		u.Runs, u.Broken = u.Runs+d.Runs, u.Broken+d.Broken
		later(&u.LastAt, d.LastAt)
		later(&u.LastBad, d.LastBad)
		later(&u.LastGood, d.LastGood)
		if d.Took.Most() > 0 {
			good = append(good, d)
		}
	}
	if len(good) == 0 {
		return u
	}
	u.Least, u.Quarter, u.Median, u.Three, u.Most = weighted(good, 0, 0), weighted(good, 1, 0.5), weighted(good, 2, 0.5),
		weighted(good, 3, 0.5), weighted(good, 4, 1)
	return u
}

// weighted is a quantile of one of the five values of days, each weighted by its good runs.
func weighted(days []past.Day, which int, quantile float64) seconds.Seconds {
	slices.SortFunc(days, func(a, b past.Day) int { return cmp.Compare(a.Took[which], b.Took[which]) })
	all, sum := 0, 0
	for _, d := range days {
		all += max(d.Runs-d.Broken, 1)
	}
	for _, d := range days {
		if sum += max(d.Runs-d.Broken, 1); float64(sum) >= quantile*float64(all) && sum > 0 {
			return seconds.Seconds(d.Took[which] * 1e9)
		}
	}
	return seconds.Seconds(days[len(days)-1].Took[which] * 1e9)
}
