package history

import (
	"cmp"
	"fmt"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/store/history/cases"
	"omnivigil/internal/text/format"
	"omnivigil/internal/trend"
)

// ran watches what a run has shown.
func (a *analyst) ran(t *transaction, unit int64, r Run, results Results) error {
	p := point{r.Run.Number, r.Run.OrderedAt}
	values := map[Measure]float64{Duration: r.Took.Seconds()}
	if r.Took > 0 {
		values[Output] = float64(r.Output)
	}
	if m, ok := a.memoryOf(r).(int64); ok {
		values[Memory] = float64(m)
	}
	if r.Findings >= 0 && r.State == api.Done {
		values[Findings] = float64(r.Findings)
	}
	if err := a.memoryEnded(t, unit, r); err != nil {
		return err
	}
	if r.Run.Command == "" { // the whole of it
		for _, m := range []Measure{Duration, Output, Memory, Findings} {
			v := trend.Value{Value: values[m], Loaded: r.Loaded && m == Duration}
			if err := a.value(t, seriesKey{measure: m, unit: unit}, trend.OfRuns, v, p,
				Trend{Measure: m, Unit: r.Unit}); err != nil {
				return err
			}
		}
	}
	if len(results.Cases) == 0 {
		return nil
	}
	return a.tested(t, unit, r, results)
}

// rested watches the time from a save to rest, of the saves that ran the same units.
func (a *analyst) rested(t *transaction, r Ripple) error {
	if r.Outcome != api.EndedCurrent || r.units() == "" || len(r.Paths) == 0 {
		return nil
	}
	return a.value(t, seriesKey{measure: Rest, units: r.units()}, trend.OfRuns,
		trend.Value{Value: r.RestAt.Sub(r.Since).Seconds(), Loaded: r.Loaded}, point{r.ID, r.Since},
		Trend{Measure: Rest, Units: r.units()})
}

// earlier adds the values of a series that are in the database, since its last shift and before a point. They have been
// watched before, so what they show is not news.
func (t *transaction) earlier(s *series, key seriesKey, before point) error {
	const values = 240 // a detector remembers no more
	shifted := "(SELECT coalesce(max(since), 0) FROM trend WHERE unit IS ? AND units = ? AND measure = ? AND test IS NULL)"
	column := map[Measure]string{
		Duration: "took / 1e6", Output: "CASE WHEN took IS NULL THEN 0 ELSE output END", Memory: "memory",
		Findings: "CASE WHEN outcome = 'done' THEN findings END",
	}[key.measure]
	query := "SELECT number, began, coalesce(" + column + ", 0), loaded AND ? FROM run WHERE unit IS ? AND command = '' " +
		"AND began < ? AND began >= " + shifted + " ORDER BY began DESC LIMIT ?"
	of, loads := any(key.unit), key.measure == Duration
	switch {
	case key.test != 0: // they are added together, see tested
		return nil
	case key.measure == Rest:
		query = "SELECT number, since, (rest - since) / 1e3, loaded AND ? FROM ripple WHERE units = ? AND " +
			"outcome = 'current' AND paths != '[]' AND since < ? AND since >= " + shifted + " ORDER BY since DESC LIMIT ?"
		of, loads = key.units, true
	}
	rows, err := t.Query(query, loads, of, milli(before.at), nullable(key.unit), key.units, string(key.measure), values)
	if err != nil {
		return err
	}
	defer rows.Close()
	type earlier struct {
		point
		trend.Value
	}
	var all []earlier
	for rows.Next() {
		var e earlier
		var began int64
		if err := rows.Scan(&e.run, &began, &e.Value.Value, &e.Loaded); err != nil {
			return err
		}
		e.at = time.UnixMilli(began)
		all = append(all, e)
	}
	for _, e := range slices.Backward(all) {
		s.seed(e.Value, e.point)
	}
	return rows.Err()
}

// nullable is a number of a row as it is stored; nil: there is none.
func nullable(id int64) any {
	if id == 0 {
		return nil
	}
	return id
}

// memory is what a run has used of the memory, over time.
type memory struct {
	run    int
	values []trend.At
	looked time.Time // when its growth was looked at
	grows  bool      // it grew then
}

const (
	maxMemory  = 4000             // values; of more, every second one is dropped
	growthLook = 10 * time.Minute // between two looks
)

// used watches the memory of a unit's run.
func (a *analyst) used(t *transaction, unit int64, s Sample) error {
	m := a.memory[s.Unit]
	if m == nil || m.run != s.Run {
		m = &memory{run: s.Run, looked: s.At}
		a.memory[s.Unit] = m
	}
	if s.Memory > 0 {
		m.values = append(m.values, trend.At{Time: s.At, Value: float64(s.Memory)})
	}
	if len(m.values) > maxMemory {
		for i := range len(m.values) / 2 {
			m.values[i] = m.values[2*i]
		}
		m.values = m.values[:len(m.values)/2]
	}
	if s.At.Sub(m.looked) < growthLook {
		return nil
	}
	m.looked = s.At
	g, grows := trend.GrowthOf(m.values, s.At)
	if !grows || m.grows {
		return nil
	}
	m.grows = true
	if known, err := t.leaks(unit); err != nil || known {
		return err
	}
	text := fmt.Sprintf("memory grows by %s an hour in run %d: %s after %s, at first %s", format.Bytes(g.PerHour), s.Run,
		format.Bytes(g.To), format.Duration(g.End.Sub(g.Since).Round(time.Minute)), format.Bytes(g.From))
	return a.enter(t, seriesKey{measure: Memory, unit: unit}, Trend{Kind: Grows, Measure: Memory, Unit: s.Unit,
		Found: s.At, Since: g.Since, Run: s.Run, Before: g.From, After: g.PerHour, Text: text},
		point{at: t.runBefore(unit, g.Since)})
}

// leaks reports whether the growth of a unit was reported, and no later run was without it.
func (t *transaction) leaks(unit int64) (known bool, err error) {
	err = t.QueryRow("SELECT EXISTS (SELECT 1 FROM trend WHERE unit = ? AND kind = ? AND ended IS NULL)", unit,
		string(Grows)).Scan(&known)
	return known, err
}

// memoryEnded notes that a run did not grow, although it was long enough: if the unit did before, that is over.
func (a *analyst) memoryEnded(t *transaction, unit int64, r Run) error {
	m := a.memory[r.Unit]
	delete(a.memory, r.Unit)
	if m == nil || m.run != r.Run.Number || m.grows || len(m.values) == 0 ||
		r.Run.EndedAt.Sub(m.values[0].Time) < trend.MinGrowth+growthLook {
		return nil
	}
	_, err := t.Exec(
		"UPDATE trend SET ended = ? WHERE unit = ? AND kind = ? AND ended IS NULL",
		milli(r.Run.EndedAt),
		unit,
		string(Grows),
	)
	return err
}

// runBefore is when the last run of a unit before a time began; the zero time: there is none.
func (t *transaction) runBefore(unit int64, at time.Time) time.Time {
	var began int64
	if t.QueryRow("SELECT began FROM run WHERE unit = ? AND began < ? ORDER BY began DESC LIMIT 1", unit,
		milli(at.Add(-time.Second))).Scan(&began) != nil {
		return at
	}
	return time.UnixMilli(began)
}

// memoryOf is the median of the memory that a run has used; nil: it was not measured often enough.
func (a *analyst) memoryOf(r Run) any {
	m := a.memory[r.Unit]
	if m == nil || m.run != r.Run.Number || len(m.values) < 5 {
		return nil
	}
	sorted := slices.SortedFunc(slices.Values(m.values), func(a, b trend.At) int { return cmp.Compare(a.Value, b.Value) })
	return int64(sorted[len(sorted)/2].Value)
}

// flakiness is how often a test has failed without a change.
type flakiness struct {
	last     api.CaseStatus
	failures int
	told     bool
}

// minFlaky is how many failures without a change make a test flaky.
const minFlaky = 3

// tested watches the tests of a run: how long those take that passed, and which fail without a change.
func (a *analyst) tested(t *transaction, unit int64, r Run, results Results) error {
	if err := a.recall(t, unit, r); err != nil {
		return err
	}
	for _, c := range results.Cases {
		test, err := t.test(unit, c.Suite, c.Name)
		if err != nil {
			return err
		}
		p, of := point{r.Run.Number, r.Run.OrderedAt}, Trend{Unit: r.Unit, Suite: c.Suite, Test: c.Name}
		if c.Status == api.CasePassed && c.Took >= MinTest {
			of.Measure = Duration
			if err := a.value(t, seriesKey{measure: Duration, unit: unit, test: test}, trend.OfTests,
				trend.Value{Value: c.Took.Seconds(), Loaded: r.Loaded}, p, of); err != nil {
				return err
			}
		}
		if err := a.failed(t, unit, test, p, c.Status, results.Same, of); err != nil {
			return err
		}
	}
	return nil
}

// MinTest is the duration from which tests are watched: below it, the clock of most runners is too coarse.
const MinTest = 20 * time.Millisecond

// failed notes the result of a test, and enters it as flaky when it has failed without a change often enough.
func (a *analyst) failed(t *transaction, unit, test int64, p point, status api.CaseStatus, same bool, of Trend) error {
	f := a.flaky[test]
	if f == nil {
		f = &flakiness{}
		a.flaky[test] = f
	}
	was := f.last
	if f.last = status; !same || was == "" || was == status || status == api.CaseSkipped || was == api.CaseSkipped {
		return nil
	}
	if f.failures++; f.told || f.failures < minFlaky {
		return nil
	}
	f.told = true
	of.Kind, of.Measure, of.Since, of.Run, of.After = Flaky, Failures, p.at, p.run, float64(f.failures)
	of.Found = p.at
	of.Text = fmt.Sprintf("fails without a change: %d times so far", f.failures)
	return a.enter(t, seriesKey{measure: Failures, unit: unit, test: test}, of, point{at: p.at})
}

// recall adds what the database has of the tests of a unit, once.
func (a *analyst) recall(t *transaction, unit int64, before Run) error {
	known := seriesKey{measure: Failures, unit: unit}
	if a.series[known] != nil {
		return nil
	}
	a.series[known] = newSeries(trend.OfTests) // it has no values, and tells that they were added
	shifted, told, err := t.testTrends(unit)
	if err != nil {
		return err
	}
	rows, err := t.Query(`SELECT number, run.began, loaded, same, cases FROM result JOIN run ON run.id = result.run
		WHERE result.unit = ? AND run.began < ? AND cases IS NOT NULL ORDER BY run.began DESC LIMIT 240`, unit,
		milli(before.Run.OrderedAt))
	if err != nil {
		return err
	}
	defer rows.Close()
	type earlier struct {
		point
		loaded, same bool
		cases        []byte
	}
	var all []earlier
	for rows.Next() {
		var e earlier
		var began int64
		if err := rows.Scan(&e.run, &began, &e.loaded, &e.same, &e.cases); err != nil {
			return err
		}
		e.at = time.UnixMilli(began)
		all = append(all, e)
	}
	if err := rows.Err(); err != nil {
		return err
	}
	for _, e := range slices.Backward(all) {
		if err := cases.Each(e.cases, func(test, status, took int64) {
			a.recallCase(unit, [3]int64{test, status, took}, e.point, e.loaded, e.same, shifted)
		}); err != nil {
			return err
		}
	}
	for test := range told {
		if a.flaky[test] == nil {
			a.flaky[test] = &flakiness{}
		}
		a.flaky[test].told = true
	}
	return nil
}

// recallCase adds an earlier result of a test.
func (a *analyst) recallCase(unit int64, c [3]int64, p point, loaded, same bool, shifted map[int64]int64) {
	test, status := c[0], [...]api.CaseStatus{api.CasePassed, api.CaseFailed, api.CaseSkipped}[c[1]%3]
	took := time.Duration(c[2]) * time.Microsecond
	if status == api.CasePassed && took >= MinTest && p.at.UnixMilli() >= shifted[test] {
		key := seriesKey{measure: Duration, unit: unit, test: test}
		if a.series[key] == nil {
			a.series[key] = newSeries(trend.OfTests)
		}
		a.series[key].seed(trend.Value{Value: took.Seconds(), Loaded: loaded}, p)
	}
	f := a.flaky[test]
	if f == nil {
		f = &flakiness{}
		a.flaky[test] = f
	}
	if same && f.last != "" && f.last != status && status != api.CaseSkipped && f.last != api.CaseSkipped {
		f.failures++
	}
	f.last = status
}

// testTrends returns when the tests of a unit have last shifted, and which were reported as flaky.
func (t *transaction) testTrends(unit int64) (shifted map[int64]int64, flaky map[int64]bool, err error) {
	shifted, flaky = map[int64]int64{}, map[int64]bool{}
	rows, err := t.Query(
		"SELECT test, kind, max(since) FROM trend WHERE unit = ? AND test IS NOT NULL GROUP BY test, kind",
		unit,
	)
	if err != nil {
		return nil, nil, err
	}
	defer rows.Close()
	for rows.Next() {
		var test, since int64
		var kind string
		if err := rows.Scan(&test, &kind, &since); err != nil {
			return nil, nil, err
		}
		if Kind(kind) == Flaky {
			flaky[test] = true
		} else {
			shifted[test] = max(shifted[test], since)
		}
	}
	return shifted, flaky, rows.Err()
}
