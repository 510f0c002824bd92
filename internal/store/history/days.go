package history

import (
	"database/sql"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/store/history/cases"
)

// late is how long after midnight a day is over: what ended before is written by then.
const late = time.Minute

// packDays summarizes the days that are over, and drops the single results of tests that are old enough.
func (w *Writer) packDays(now time.Time) error {
	var last sql.NullInt64
	if err := w.db.QueryRow("SELECT max(day) FROM unit_day").Scan(&last); err != nil {
		return err
	}
	from := int64(0)
	if last.Valid {
		from = cases.Start(last.Int64 + 1).UnixMilli()
	}
	for {
		var next sql.NullInt64
		err := w.db.QueryRow("SELECT min(ended) FROM run WHERE ended >= ?", from).Scan(&next)
		if err != nil {
			return err
		}
		day := cases.Day(time.UnixMilli(next.Int64))
		if !next.Valid || day >= cases.Day(now.Add(-late)) {
			break
		}
		if err := w.packDay(day); err != nil {
			return err
		}
		from = cases.Start(day + 1).UnixMilli()
	}
	_, err := w.db.Exec("UPDATE result SET cases = NULL WHERE began < ? AND cases IS NOT NULL",
		min(now.Add(-keptDays*day).UnixMilli(), from))
	return err
}

// packDay summarizes a day.
func (w *Writer) packDay(number int64) error {
	from, to := cases.Start(number).UnixMilli(), cases.Start(number+1).UnixMilli()
	tx, err := w.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	units, err := unitsOf(tx, from, to)
	if err != nil {
		return err
	}
	for unit, d := range units {
		q := cases.Quartiles(d.took)
		if _, err := tx.Exec(`INSERT OR REPLACE INTO unit_day (unit, day, runs, broken, least, quarter, median, three, most,
			memory, last, bad, good) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, unit, number, d.runs, d.broken, q[0],
			q[1], q[2], q[3], q[4], cases.Quartiles(d.memory)[2], d.last, d.bad, d.good); err != nil {
			return err
		}
	}
	tests, err := testsOf(tx, from, to)
	if err != nil {
		return err
	}
	for test, d := range tests {
		q := cases.Quartiles(d.Took)
		if _, err := tx.Exec(`INSERT OR REPLACE INTO test_day (test, day, runs, failed, flaky, least, quarter, median, three,
			most) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, test, number, d.Runs, d.Failed, d.Flaky, q[0], q[1], q[2], q[3],
			q[4]); err != nil {
			return err
		}
	}
	return tx.Commit()
}

// unitDay is the runs of a unit on a day.
type unitDay struct {
	took, memory    []int64
	runs, broken    int
	last, bad, good int64
}

// unitsOf reads the runs that ended within a time, by unit.
func unitsOf(tx *sql.Tx, from, to int64) (map[int64]*unitDay, error) {
	rows, err := tx.Query(`SELECT unit, began, coalesce(took, 0), outcome, coalesce(memory, 0) FROM run
		WHERE ended >= ? AND ended < ? ORDER BY began`, from, to)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	units := map[int64]*unitDay{}
	for rows.Next() {
		var unit, began, took, memory int64
		var outcome string
		if err := rows.Scan(&unit, &began, &took, &outcome, &memory); err != nil {
			return nil, err
		}
		d := units[unit]
		if d == nil {
			d = &unitDay{}
			units[unit] = d
		}
		d.runs++
		d.last = began
		if api.State(outcome).Broken() {
			d.broken++
			d.bad = began
		} else if took > 0 {
			d.good = began
		}
		if took > 0 {
			d.took = append(d.took, took)
		}
		if memory > 0 {
			d.memory = append(d.memory, memory)
		}
	}
	return units, rows.Err()
}

// testsOf reads the results of the runs that ended within a time, by test.
func testsOf(tx *sql.Tx, from, to int64) (map[int64]*cases.Daily, error) {
	rows, err := tx.Query(`SELECT same, cases FROM result JOIN run ON run.id = result.run WHERE ended >= ? AND ended < ?
		AND cases IS NOT NULL ORDER BY result.began`, from, to)
	if err != nil {
		return nil, err
	}
	defer rows.Close()
	tests := map[int64]*cases.Daily{}
	for rows.Next() {
		var same bool
		var text sql.RawBytes
		if err := rows.Scan(&same, &text); err != nil {
			return nil, err
		}
		if err := cases.Each(text, func(test, status, took int64) {
			d := tests[test]
			if d == nil {
				d = &cases.Daily{Last: -1}
				tests[test] = d
			}
			d.Add(status, took, same)
		}); err != nil {
			return nil, err
		}
	}
	return tests, rows.Err()
}
