package reader

import (
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/api/seconds"
	"omnivigil/internal/store/history"
	"omnivigil/internal/store/history/cases"
)

// sessions returns sessions, newest first. One that was killed has ended when its state was written last.
func (r *Reader) sessions(ctx context.Context, q past.Query) (all []past.Session, more bool, err error) {
	q.Branch = "" // a session is of all
	w := conditionOf(q, "began", "")
	rows, err := r.db.QueryContext(ctx, `SELECT name, began, coalesce(ended, seen, began), ended IS NOT NULL, once,
		state IS NOT NULL FROM session`+w.String()+" ORDER BY began DESC, id DESC LIMIT ?", append(w.args, most(q))...)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var s past.Session
		var began, ended int64
		if err := rows.Scan(&s.Name, &began, &ended, &s.InOrder, &s.Once, &s.Kept); err != nil {
			return err
		}
		s.Began, s.Ended = time.UnixMilli(began), time.UnixMilli(ended)
		all = append(all, s)
		return nil
	})
	all, more = cut(all, q)
	return all, more, err
}

// State returns the newest state of a session. ErrNone: it is not kept.
func (r *Reader) State(ctx context.Context, session string) (*api.Snapshot, error) {
	var packed []byte
	err := r.db.QueryRowContext(ctx, "SELECT state FROM session WHERE name = ?", session).Scan(&packed)
	if errors.Is(err, sql.ErrNoRows) || err == nil && packed == nil {
		return nil, ErrNone
	}
	if err != nil {
		return nil, err
	}
	return history.UnpackState(packed)
}

// VerdictAt returns a verdict of a session: see api.VerdictQuery. ErrNone: none is known.
func (r *Reader) VerdictAt(ctx context.Context, session string, q api.VerdictQuery) (v api.PastVerdict, err error) {
	w := &where{}
	w.add("session.name = ?", session)
	if !q.At.IsZero() {
		w.add("at <= ?", q.At.UnixMilli())
	}
	if q.Turned != "" {
		w.add("turned = ?", string(q.Turned))
	}
	var at int64
	err = r.db.QueryRowContext(ctx, "SELECT at, word, text, turned FROM verdict JOIN session ON session.id = session"+
		w.String()+" ORDER BY at DESC LIMIT 1", w.args...).Scan(&at, &v.Verdict.Word, &v.Verdict.Text, &v.Turned)
	if errors.Is(err, sql.ErrNoRows) {
		return v, ErrNone
	}
	v.At = time.UnixMilli(at)
	return v, err
}

// maxSamples is how many samples are in a page, about.
const maxSamples = 5000

// Samples returns a page of the samples of a session, in order of time: those after from, in milliseconds since 1970.
func (r *Reader) Samples(ctx context.Context, session string, from int64) (api.SamplePage, error) {
	page := api.SamplePage{Samples: []api.Sample{}, Next: from}
	// The key of the table is session, unit, time: each unit has a range of it.
	rows, err := r.db.QueryContext(ctx, `SELECT at, unit.name, cpu, memory, output FROM session CROSS JOIN unit
		JOIN sample ON sample.session = session.id AND sample.unit = unit.id AND at > ? WHERE session.name = ?
		ORDER BY at, unit.id LIMIT ?`, from, session, maxSamples)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var s api.Sample
		var at int64
		if err := rows.Scan(&at, &s.Unit, &s.CPU, &s.Memory, &s.Output); err != nil {
			return err
		}
		s.At = time.UnixMilli(at)
		page.Samples = append(page.Samples, s)
		return nil
	})
	if err != nil || len(page.Samples) == 0 {
		return page, err
	}
	last := page.Samples[len(page.Samples)-1].At
	if n := len(page.Samples); n == maxSamples { // units may be missing of the last time
		for n > 1 && page.Samples[n-1].At.Equal(last) && !page.Samples[0].At.Equal(last) {
			n--
		}
		page.Samples = page.Samples[:n]
		last = page.Samples[n-1].At
	}
	page.Next = last.UnixMilli()
	return page, nil
}

// Changes returns what a ripple of a session has changed, in order of the paths.
func (r *Reader) Changes(ctx context.Context, session string, ripple int) (all []history.Change, err error) {
	rows, err := r.db.QueryContext(ctx, `SELECT path, at, before, after, reverts FROM change
		JOIN session ON session.id = session WHERE session.name = ? AND ripple = ? ORDER BY path`, session, ripple)
	return all, collect(rows, err, func(rows *sql.Rows) error {
		c := history.Change{Ripple: ripple}
		var at int64
		var before, after string
		if err := rows.Scan(&c.Path, &at, &before, &after, &c.Reverts); err != nil {
			return err
		}
		c.At, c.Before, c.After = time.UnixMilli(at), json.RawMessage(before), json.RawMessage(after)
		all = append(all, c)
		return nil
	})
}

// FindingsAt returns the findings that were reported and not gone at a time.
func (r *Reader) FindingsAt(ctx context.Context, at time.Time) (all []api.Finding, err error) {
	rows, err := r.db.QueryContext(ctx, `SELECT unit.name, file, line, severity, rule, message FROM finding
		JOIN unit ON unit.id = unit WHERE first <= ?1 AND coalesce(gone > ?1, true) ORDER BY file, line`,
		at.UnixMilli())
	return all, collect(rows, err, func(rows *sql.Rows) error {
		f := api.Finding{Change: api.StillThere}
		if err := rows.Scan(&f.Unit, &f.File, &f.Line, &f.Severity, &f.Rule, &f.Message); err != nil {
			return err
		}
		all = append(all, f)
		return nil
	})
}

// runsOfCases is how many runs of a unit are looked at for the results of tests at a time: a run may be of some tests
// only.
const runsOfCases = 50

// CasesAt returns the newest results of tests before a time. Of those older than fourteen days, only failures are kept.
func (r *Reader) CasesAt(ctx context.Context, at time.Time) (all []api.Case, err error) {
	names := map[int64]*api.Case{}
	rows, err := r.db.QueryContext(ctx,
		"SELECT test.id, unit.name, suite, test.name FROM test JOIN unit ON unit.id = test.unit ORDER BY test.id")
	err = collect(rows, err, func(rows *sql.Rows) error {
		var id int64
		c := &api.Case{}
		if err := rows.Scan(&id, &c.Unit, &c.Suite, &c.Name); err != nil {
			return err
		}
		names[id] = c
		return nil
	})
	if err != nil {
		return nil, err
	}
	add := func(test int64, run int, status api.CaseStatus, took int64) {
		if c := names[test]; c != nil && c.Status == "" {
			c.Status, c.Run, c.Took = status, run, seconds.Seconds(time.Duration(took)*time.Microsecond)
			all = append(all, *c)
		}
	}
	rows, err = r.db.QueryContext(ctx, `SELECT number, cases, failures FROM (SELECT result.run, result.began AS at,
		row_number() OVER (PARTITION BY unit ORDER BY began DESC) AS nth FROM result
		WHERE began <= ?1 AND began > ?1 - ?3) AS newest JOIN run ON run.id = newest.run
		JOIN result ON result.run = newest.run WHERE nth <= ?2 ORDER BY at DESC`,
		at.UnixMilli(), runsOfCases, (90 * 24 * time.Hour).Milliseconds())
	err = collect(rows, err, func(rows *sql.Rows) error {
		var run int
		var text, failures []byte
		if err := rows.Scan(&run, &text, &failures); err != nil {
			return err
		}
		if text != nil {
			return cases.Each(text, func(test, status, took int64) { add(test, run, history.StatusOf(status), took) })
		}
		var failed []int64
		if err := json.Unmarshal(failures, &failed); err != nil {
			return err
		}
		for _, test := range failed {
			add(test, run, api.CaseFailed, 0)
		}
		return nil
	})
	return all, err
}
