package history

import (
	"database/sql"
	"time"

	"omnivigil/internal/store/history/cases"
)

const (
	day       = 24 * time.Hour
	keptDays  = 14            // for which the single results of tests are kept
	trimPause = 6 * time.Hour // between two deletions of what is old
)

// thinned are the minimum distances of samples by their age.
var thinned = []struct{ age, step time.Duration }{{day, time.Minute}, {keptDays * day, 10 * time.Minute}}

// trim thins what is old, and deletes what is too old or too much. It reports what goes wrong.
func (w *Writer) trim() {
	w.trimmed = time.Now()
	for _, step := range []func(now time.Time) error{w.packDays, w.thin, w.deleteOld, w.deleteMost} {
		if err := step(w.trimmed); err != nil {
			w.report("the history is not kept within its limits: " + err.Error())
			return
		}
	}
}

// deleteOld deletes what is older than the limit.
func (w *Writer) deleteOld(now time.Time) error {
	if w.limits.Age <= 0 {
		return nil
	}
	return w.deleteBefore(now.Add(-w.limits.Age))
}

// deleteBefore deletes what is older than a time.
func (w *Writer) deleteBefore(at time.Time) error {
	tx, err := w.db.Begin()
	if err != nil {
		return err
	}
	defer tx.Rollback()
	for _, query := range []string{
		"DELETE FROM run WHERE began < ?",
		"DELETE FROM ripple WHERE since < ?",
		"DELETE FROM sample WHERE at < ?",
		"DELETE FROM verdict WHERE at < ?",
		"DELETE FROM change WHERE at < ?",
		"DELETE FROM finding WHERE gone < ?",
		"DELETE FROM trend WHERE found < ?",
	} {
		if _, err := tx.Exec(query, at.UnixMilli()); err != nil {
			return err
		}
	}
	for _, query := range []string{"DELETE FROM test_day WHERE day < ?", "DELETE FROM unit_day WHERE day < ?"} {
		if _, err := tx.Exec(query, cases.Day(at)); err != nil {
			return err
		}
	}
	if _, err := tx.Exec(`DELETE FROM session WHERE id != ? AND began < ? AND NOT EXISTS
		(SELECT 1 FROM run WHERE run.session = session.id)`, w.session, at.UnixMilli()); err != nil {
		return err
	}
	return tx.Commit()
}

// deleteMost deletes the oldest tenth of the time that is kept, until the size is within the limit.
func (w *Writer) deleteMost(now time.Time) error {
	for w.limits.Size > 0 {
		size, err := w.size()
		if err != nil || size <= w.limits.Size {
			return err
		}
		var oldest sql.NullInt64
		if err := w.db.QueryRow("SELECT min(began) FROM run").Scan(&oldest); err != nil || !oldest.Valid {
			return err
		}
		kept := now.Sub(time.UnixMilli(oldest.Int64))
		if kept < time.Hour { // a limit that is too small for an hour: what is left is small
			return nil
		}
		if err := w.deleteBefore(time.UnixMilli(oldest.Int64).Add(kept / 10)); err != nil {
			return err
		}
		if _, err := w.db.Exec("PRAGMA incremental_vacuum"); err != nil {
			return err
		}
	}
	return nil
}

// size is the size of the database in bytes, without its free pages.
func (w *Writer) size() (int64, error) {
	var pages, free, of int64
	err := w.db.QueryRow("SELECT p.page_count, f.freelist_count, s.page_size FROM pragma_page_count p, "+
		"pragma_freelist_count f, pragma_page_size s").Scan(&pages, &free, &of)
	return (pages - free) * of, err
}

// thin deletes samples that are closer to each other than their age requires.
func (w *Writer) thin(now time.Time) error {
	for _, t := range thinned {
		_, err := w.db.Exec(`DELETE FROM sample WHERE at < ?1 AND at > ?1 - ?3 AND EXISTS (SELECT 1 FROM sample AS earlier
			WHERE earlier.session = sample.session AND earlier.unit = sample.unit AND earlier.at < sample.at
			AND earlier.at >= sample.at / ?2 * ?2)`,
			now.Add(-t.age).UnixMilli(), t.step.Milliseconds(), (30 * day).Milliseconds())
		if err != nil {
			return err
		}
	}
	return nil
}
