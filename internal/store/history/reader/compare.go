package reader

import (
	"cmp"
	"context"
	"database/sql"
	"math"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/store/history"
	"omnivigil/internal/store/history/cases"
	"omnivigil/internal/trend"
)

// side is what is known of a unit or a test on one side of a comparison.
type side struct {
	took         []float64 // seconds
	failed, runs int
}

// pair is both sides.
type pair [2]side

// compareFor is how many days back is compared, if a query does not say.
const compareFor = 14

// Compare compares what ran on two branches or commits; a commit may be cut short. Units and times of the query limit
// what is compared. Runs under load count for outcomes only.
func (r *Reader) Compare(ctx context.Context, q past.Query, a, b string) (c past.Comparison, err error) {
	if q.Since.IsZero() {
		q.Since = time.Now().AddDate(0, 0, -compareFor)
	}
	units, tests := map[int64]*pair{}, map[int64]*pair{}
	for i, of := range []string{a, b} {
		n, err := r.side(ctx, q, of, i, units, tests)
		if err != nil {
			return c, err
		}
		*[]*int{&c.RunsA, &c.RunsB}[i] = n
	}
	names, err := r.names(ctx)
	if err != nil {
		return c, err
	}
	c.Differences = []past.Difference{}
	lookedAt := len(units) + len(tests)
	for id, p := range units {
		c.Differences = append(c.Differences, p.differences(past.Difference{Unit: names.units[id]}, lookedAt)...)
	}
	for id, p := range tests {
		c.Differences = append(c.Differences, p.differences(names.tests[id], lookedAt)...)
	}
	slices.SortFunc(c.Differences, func(x, y past.Difference) int {
		return cmp.Or(cmp.Compare(sizeOf(y), sizeOf(x)), cmp.Compare(x.Unit+x.Suite+x.Test, y.Unit+y.Suite+y.Test))
	})
	return c, nil
}

// side adds what ran on one branch or commit, and returns how many runs that were.
func (r *Reader) side(
	ctx context.Context,
	q past.Query,
	of string,
	i int,
	units, tests map[int64]*pair,
) (runs int, err error) {
	const on = " AND run.revision IN (SELECT id FROM revision WHERE branch = ? OR length(?) >= 4 AND " +
		"substr(hash, 1, length(?)) = ?)"
	q.Branch = ""
	w := conditionOf(q, "run.began", "unit.name")
	args := append(w.args, of, of, of, of)
	entry := func(in map[int64]*pair, id int64) *side {
		if in[id] == nil {
			in[id] = &pair{}
		}
		return &in[id][i]
	}
	rows, err := r.db.QueryContext(ctx, `SELECT run.unit, coalesce(took, 0), outcome, loaded FROM run
		JOIN unit ON unit.id = run.unit`+w.String()+on+" AND command = ''", args...)
	err = collect(rows, err, func(rows *sql.Rows) error {
		var unit, took int64
		var outcome string
		var loaded bool
		if err := rows.Scan(&unit, &took, &outcome, &loaded); err != nil {
			return err
		}
		runs++
		s := entry(units, unit)
		if outcome != "stopped" && outcome != "reused" {
			s.runs++
		}
		if api.State(outcome).Broken() {
			s.failed++
		}
		if took > 0 && !loaded {
			s.took = append(s.took, float64(took)/1e6)
		}
		return nil
	})
	if err != nil {
		return runs, err
	}
	// The results are large, so they are not sorted themselves.
	rows, err = r.db.QueryContext(ctx, `SELECT loaded, cases FROM result JOIN run ON run.id = result.run
		WHERE cases IS NOT NULL AND result.run IN (SELECT result.run FROM result JOIN run ON run.id = result.run
		JOIN unit ON unit.id = run.unit`+w.String()+on+" AND command = '' ORDER BY result.began DESC LIMIT ?)",
		append(args, comparedResults)...)
	return runs, collect(rows, err, func(rows *sql.Rows) error {
		var loaded bool
		var text sql.RawBytes
		if err := rows.Scan(&loaded, &text); err != nil {
			return err
		}
		return cases.Each(text, func(test, status, took int64) {
			s := entry(tests, test)
			switch s.runs++; {
			case status == cases.Failed:
				s.failed++
			case status == cases.Passed && took >= history.MinTest.Microseconds() && !loaded:
				s.took = append(s.took, float64(took)/1e6)
			}
		})
	})
}

// comparedResults is how many runs of tests are compared, the newest ones.
const comparedResults = 80

// differences are what differs by more than chance.
func (p *pair) differences(of past.Difference, lookedAt int) (all []past.Difference) {
	a, b := &p[0], &p[1]
	if ratio, is := trend.Differ(a.took, b.took, lookedAt); is {
		of.Measure, of.A, of.B, of.Ratio = string(history.Duration), middle(a.took), middle(b.took), ratio
		all = append(all, of)
	}
	if trend.RatesDiffer(a.failed, a.runs, b.failed, b.runs, lookedAt) {
		of.Measure, of.Ratio = string(history.Failures), 0
		of.A, of.B = trend.RateOf(a.failed, a.runs).Share(), trend.RateOf(b.failed, b.runs).Share()
		all = append(all, of)
	}
	return all
}

// sizeOf orders differences: a share of failures counts as much as a duration that is as many times as long.
func sizeOf(d past.Difference) float64 {
	if d.Ratio > 0 {
		return math.Abs(math.Log(d.Ratio))
	}
	return math.Abs(d.A - d.B)
}

// middle is the median of some values.
func middle(values []float64) float64 {
	sorted := slices.Sorted(slices.Values(values))
	return sorted[len(sorted)/2]
}

// names are those of units and tests, by their numbers.
type names struct {
	units map[int64]string
	tests map[int64]past.Difference
}

func (r *Reader) names(ctx context.Context) (names, error) {
	n := names{map[int64]string{}, map[int64]past.Difference{}}
	rows, err := r.db.QueryContext(ctx, "SELECT id, name FROM unit")
	err = collect(rows, err, func(rows *sql.Rows) error {
		var id int64
		var name string
		err := rows.Scan(&id, &name)
		n.units[id] = name
		return err
	})
	if err != nil {
		return n, err
	}
	rows, err = r.db.QueryContext(ctx, "SELECT id, unit, suite, name FROM test")
	return n, collect(rows, err, func(rows *sql.Rows) error {
		var id, unit int64
		var d past.Difference
		err := rows.Scan(&id, &unit, &d.Suite, &d.Test)
		d.Unit = n.units[unit]
		n.tests[id] = d
		return err
	})
}
