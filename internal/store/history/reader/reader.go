// Package reader reads the history of a project: runs, ripples, tests, trends, and what they add up to. Start reading
// at Reader.
package reader

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"time"

	"omnivigil/internal/api/past"
	"omnivigil/internal/api/seconds"
	"omnivigil/internal/store/history"
	"omnivigil/internal/store/history/database"
)

// ErrNone reports that a project has no history yet.
var ErrNone = errors.New("nothing is in the history yet")

// Reader reads a history, also while a session writes it. Its methods may be called from any goroutine; they block.
type Reader struct{ db *sql.DB }

// Read opens the history in a directory for reading. ErrNone: there is none. database.ErrNewer: it is of a newer
// version of the program.
func Read(dir string) (*Reader, error) {
	file := filepath.Join(dir, database.FileName)
	if _, err := os.Stat(file); errors.Is(err, fs.ErrNotExist) {
		return nil, ErrNone
	}
	db, err := database.Open(file, "_pragma=query_only(1)")
	if err != nil {
		return nil, err
	}
	db.SetMaxOpenConns(4)
	var version int
	err = db.QueryRow("PRAGMA user_version").Scan(&version)
	switch {
	case err != nil:
	case version == 0:
		err = ErrNone
	case version > database.Version:
		err = database.ErrNewer
	}
	if err != nil {
		db.Close()
		return nil, err
	}
	return &Reader{db}, nil
}

// Close closes it.
func (r *Reader) Close() error { return r.db.Close() }

// Dismiss marks a trend as dismissed. It opens the history in a directory for writing, for that.
func Dismiss(dir string, id int64) error {
	db, err := database.Open(filepath.Join(dir, database.FileName), "_txlock=immediate")
	if err != nil {
		return err
	}
	defer db.Close()
	done, err := db.Exec("UPDATE trend SET dismissed = 1 WHERE id = ?", id)
	if err != nil {
		return err
	}
	if n, err := done.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, fs.ErrNotExist)
	}
	return nil
}

// History returns a part of the history.
func (r *Reader) History(ctx context.Context, q past.Query) (h past.History, err error) {
	var from sql.NullInt64
	if err := r.db.QueryRowContext(ctx, "SELECT min(began) FROM run").Scan(&from); err != nil {
		return h, err
	}
	if from.Valid {
		h.From = time.UnixMilli(from.Int64)
	}
	switch q.What {
	case past.Runs:
		h.Runs, h.More, err = r.runs(ctx, q)
	case past.Ripples:
		h.Ripples, h.More, err = r.ripples(ctx, q)
	case past.Tests:
		h.Tests, h.More, err = r.tests(ctx, q)
	case past.Trends:
		h.Trends, h.More, err = r.trends(ctx, q)
	case past.Sessions:
		h.Sessions, h.More, err = r.sessions(ctx, q)
	case past.Days:
		h.Days, err = r.days(ctx, q)
	default:
		h.Units, err = r.units(ctx, q)
	}
	return h, err
}

// where is the condition of a query on a table with a time, and its arguments.
type where struct {
	terms []string
	args  []any
}

func (w *where) add(term string, args ...any) {
	w.terms = append(w.terms, term)
	w.args = append(w.args, args...)
}

// of is the condition for a query: column is that of the time, and unit that of the unit's name; empty: none.
func conditionOf(q past.Query, column, unit string) *where {
	w := &where{}
	w.add("true")
	if !q.Since.IsZero() {
		w.add(column+" >= ?", q.Since.UnixMilli())
	}
	if !q.Until.IsZero() {
		w.add(column+" < ?", q.Until.UnixMilli())
	}
	if len(q.Units) > 0 && unit != "" {
		marks := strings.TrimSuffix(strings.Repeat("?,", len(q.Units)), ",")
		w.terms = append(w.terms, unit+" IN ("+marks+")")
		for _, u := range q.Units {
			w.args = append(w.args, u)
		}
	}
	if q.Branch != "" {
		w.add("revision IN (SELECT id FROM revision WHERE branch = ?)", q.Branch)
	}
	return w
}

func (w *where) String() string { return " WHERE " + strings.Join(w.terms, " AND ") }

// most is how many rows a query returns: one more than was asked for, to know whether there are more.
func most(q past.Query) int {
	if q.Count <= 0 {
		return past.DefaultCount + 1
	}
	return min(q.Count, past.MaxCount) + 1
}

// cut limits rows to those that were asked for.
func cut[T any](rows []T, q past.Query) ([]T, bool) {
	n := most(q) - 1
	if len(rows) <= n {
		return rows, false
	}
	return rows[:n], true
}

// collect calls scan for each row.
func collect(rows *sql.Rows, err error, scan func(*sql.Rows) error) error {
	if err != nil {
		return err
	}
	defer rows.Close()
	for rows.Next() {
		if err := scan(rows); err != nil {
			return err
		}
	}
	return rows.Err()
}

func (r *Reader) runs(ctx context.Context, q past.Query) (all []past.Run, more bool, err error) {
	w := conditionOf(q, "run.began", "unit.name")
	if q.Session != "" {
		w.add("session.name = ? AND ripple = ?", q.Session, q.Ripple)
	}
	rows, err := r.db.QueryContext(ctx, `SELECT session.name, unit.name, number, ripple, because, command, run.began,
		run.ended, coalesce(took, 0), outcome, exit, problem, loaded, coalesce(memory, 0), output, findings,
		coalesce(passed, 0), coalesce(failed, 0), coalesce(skipped, 0), coalesce(hash, ''), coalesce(branch, ''),
		coalesce(clean, -1), spans FROM run JOIN session ON session.id = run.session JOIN unit ON unit.id = run.unit
		LEFT JOIN result ON result.run = run.id LEFT JOIN revision ON revision.id = run.revision`+w.String()+
		" ORDER BY run.began DESC, run.id DESC LIMIT ?", append(w.args, most(q))...)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var p past.Run
		var began, ended, took int64
		var findings sql.NullInt64
		var clean int
		var spans []byte
		if err := rows.Scan(&p.Session, &p.Unit, &p.Number, &p.Ripple, &p.Because, &p.Command, &began, &ended, &took,
			&p.Outcome, &p.Exit, &p.Problem, &p.Loaded, &p.Memory, &p.Output, &findings, &p.Passed, &p.Failed, &p.Skipped,
			&p.Commit, &p.Branch, &clean, &spans); err != nil {
			return err
		}
		p.Began, p.Ended, p.Took = time.UnixMilli(began), time.UnixMilli(ended), micro(took)
		if findings.Valid {
			p.Findings = new(int(findings.Int64))
		}
		p.Clean = cleanOf(clean)
		if q.Session != "" {
			if err := json.Unmarshal(spans, &p.Spans); err != nil {
				return err
			}
		}
		all = append(all, p)
		return nil
	})
	all, more = cut(all, q)
	return all, more, err
}

// micro is a duration in microseconds.
func micro(n int64) seconds.Seconds { return seconds.Seconds(time.Duration(n) * time.Microsecond) }

func cleanOf(stored int) *bool {
	if stored == history.NotKnown {
		return nil
	}
	return new(stored == history.Clean)
}

func (r *Reader) ripples(ctx context.Context, q past.Query) (all []past.Ripple, more bool, err error) {
	w := conditionOf(q, "since", "")
	for _, unit := range q.Units { // names have no spaces
		w.add("instr(' ' || units || ' ', ?) > 0", " "+unit+" ")
	}
	rows, err := r.db.QueryContext(ctx, `SELECT session.name, number, title, cause, since, rest - since, outcome, detail,
		paths, units, coalesce(hash, ''), coalesce(branch, ''), coalesce(clean, -1) FROM ripple
		JOIN session ON session.id = ripple.session LEFT JOIN revision ON revision.id = ripple.revision`+w.String()+
		" ORDER BY since DESC, ripple.id DESC LIMIT ?", append(w.args, most(q))...)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var p past.Ripple
		var since, took int64
		var paths, units string
		var clean int
		if err := rows.Scan(&p.Session, &p.Number, &p.Title, &p.Cause, &since, &took, &p.Outcome, &p.Detail, &paths, &units,
			&p.Commit, &p.Branch, &clean); err != nil {
			return err
		}
		p.Since, p.Took = time.UnixMilli(since), seconds.Seconds(time.Duration(took)*time.Millisecond)
		p.Units, p.Clean = strings.Fields(units), cleanOf(clean)
		all = append(all, p)
		return json.Unmarshal([]byte(paths), &all[len(all)-1].Paths)
	})
	all, more = cut(all, q)
	return all, more, err
}

func (r *Reader) trends(ctx context.Context, q past.Query) (all []past.Trend, more bool, err error) {
	q.Branch = "" // a trend is of all
	w := conditionOf(q, "found", "unit.name")
	rows, err := r.db.QueryContext(ctx, `SELECT trend.id, trend.kind, measure, coalesce(unit.name, ''), units,
		coalesce(suite, ''), coalesce(test.name, ''), found, since, run, before, after, text, changes, dismissed FROM trend
		LEFT JOIN unit ON unit.id = trend.unit LEFT JOIN test ON test.id = trend.test`+w.String()+
		" ORDER BY found DESC, trend.id DESC LIMIT ?", append(w.args, most(q))...)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var t past.Trend
		var found, since int64
		var units, changes string
		if err := rows.Scan(&t.ID, &t.Kind, &t.Measure, &t.Unit, &units, &t.Suite, &t.Test, &found, &since, &t.Run, &t.Before,
			&t.After, &t.Text, &changes, &t.Dismissed); err != nil {
			return err
		}
		var b history.Between
		if err := json.Unmarshal([]byte(changes), &b); err != nil {
			return err
		}
		t.Found, t.Since, t.Units = time.UnixMilli(found), time.UnixMilli(since), strings.Fields(units)
		t.Files, t.MoreFiles, t.From, t.To = b.Files, b.More, b.From, b.To
		all = append(all, t)
		return nil
	})
	all, more = cut(all, q)
	return all, more, err
}
