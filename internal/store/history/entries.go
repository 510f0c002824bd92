package history

import (
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/api"
)

// Revision is what version control says of the files at a time.
type Revision struct {
	Hash   string // of the commit; empty: the project is in no version control
	Branch string // empty: none is checked out
	Clean  int    // Clean, Changed or NotKnown
}

// Whether the files are as committed.
const (
	Changed  = 0
	Clean    = 1
	NotKnown = -1
)

// Run is a run that has ended.
type Run struct {
	Unit, Kind string
	Run        api.Run
	State      api.State     // in which it ended
	Took       time.Duration // of a good run, or until a service was ready; 0: neither
	Loaded     bool          // other programs loaded the machine
	Output     int64         // bytes
	Findings   int           // errors and warnings at its end; -1: its output is not read
	Revision   Revision
}

// Ran writes a run.
func (w *Writer) Ran(r Run) { w.add(r) }

func (r Run) write(t *transaction) error {
	unit, err := t.unit(r.Unit, r.Kind)
	if err != nil {
		return err
	}
	revision, err := t.revision(r.Revision)
	if err != nil {
		return err
	}
	spans, err := json.Marshal(append([]api.Span{}, r.Run.Spans...))
	if err != nil {
		return err
	}
	outcome, exit, took, ripple := string(r.State), "", any(nil), 0
	if !r.Run.ReusedAt.IsZero() {
		outcome = "reused"
	}
	if r.Run.Exit != nil {
		exit = r.Run.Exit.Text
	}
	if r.Took > 0 {
		took = r.Took.Microseconds()
	}
	if n := len(r.Run.Ripples); n > 0 {
		ripple = r.Run.Ripples[0]
	}
	var id int64
	err = t.QueryRow(`INSERT OR REPLACE INTO run (session, unit, number, ripple, because, command, began, ready, ended,
		took, 		outcome, exit, problem, loaded, memory, output, findings, spans, revision)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`,
		t.session, unit, r.Run.Number, ripple, r.Run.Because, r.Run.Command, milli(r.Run.OrderedAt), milli(r.Run.ReadyAt),
		milli(r.Run.EndedAt), took, outcome, exit, r.Run.Problem, r.Loaded, t.analyst.memoryOf(r), r.Output,
		orNull(r.Findings), string(spans), revision).
		Scan(&id)
	if err != nil {
		return err
	}
	key := runKey{r.Unit, r.Run.Number}
	for _, p := range t.passes[key] {
		if err := p.writeFor(t, id); err != nil {
			return err
		}
	}
	delete(t.passes, key)
	results, tested := t.results[key]
	delete(t.results, key)
	if tested {
		if err := results.writeFor(t, unit, id); err != nil {
			return err
		}
	}
	return t.analyst.ran(t, unit, r, results)
}

// orNull is a count as it is stored; nil: it is not known.
func orNull(n int) any {
	if n < 0 {
		return nil
	}
	return n
}

// Ripple is a ripple that is at rest.
type Ripple struct {
	api.Ripple
	Loaded   bool
	Revision Revision
}

// units are the names of the units that it ran.
func (r Ripple) units() string {
	var names []string
	for _, ref := range r.Runs {
		names = append(names, ref.Unit)
	}
	slices.Sort(names)
	return strings.Join(slices.Compact(names), " ")
}

// Rested writes a ripple.
func (w *Writer) Rested(r Ripple) { w.add(r) }

func (r Ripple) write(t *transaction) error {
	revision, err := t.revision(r.Revision)
	if err != nil {
		return err
	}
	paths, err := json.Marshal(append([]string{}, r.Paths...)) // never null
	if err != nil {
		return err
	}
	_, err = t.Exec(`INSERT OR REPLACE INTO ripple (session, number, cause, title, since, rest, outcome, detail, paths,
		units, loaded, revision) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?)`, t.session, r.ID, string(r.Cause.Kind), r.Title,
		milli(r.Since),
		milli(r.RestAt), string(r.Outcome), r.Detail, string(paths), r.units(), r.Loaded, revision)
	if err != nil {
		return err
	}
	return t.analyst.rested(t, r)
}

// Pass is a pass that has ended, of a run that may still be running.
type Pass struct {
	Unit, Kind string
	Run        int
	Pass       api.Pass
}

// Passed writes a pass. Its run is not known before it ends, so passes are kept until then.
func (w *Writer) Passed(p Pass) { w.add(p) }

func (p Pass) write(t *transaction) error {
	key := runKey{p.Unit, p.Run}
	t.passes[key] = append(t.passes[key], p)
	return nil
}

func (p Pass) writeFor(t *transaction, run int64) error {
	_, err := t.Exec("INSERT OR REPLACE INTO pass (run, number, began, took, good, saw) VALUES (?, ?, ?, ?, ?, ?)", run,
		p.Pass.Number, milli(p.Pass.BeganAt), p.Pass.EndedAt.Sub(p.Pass.BeganAt).Microseconds(), p.Pass.Good, p.Pass.Saw)
	return err
}

// Case is the result of a test in a run.
type Case struct {
	Suite, Name string
	Status      api.CaseStatus
	Took        time.Duration
}

// Results are the results of a suite's run.
type Results struct {
	Unit, Kind string
	Run        int
	Began      time.Time
	Same       bool // nothing that affects the unit has changed since its run before
	Loaded     bool
	Cases      []Case
}

// Tested writes results. They are written with their run, which ends later.
func (w *Writer) Tested(r Results) { w.add(r) }

func (r Results) write(t *transaction) error {
	t.results[runKey{r.Unit, r.Run}] = r
	return nil
}

// statuses are the numbers for the results of cases.
var statuses = map[api.CaseStatus]int{api.CasePassed: 0, api.CaseFailed: 1, api.CaseSkipped: 2}

// StatusOf is the status with a number.
func StatusOf(n int64) api.CaseStatus {
	for status, number := range statuses {
		if int64(number) == n {
			return status
		}
	}
	return ""
}

func (r Results) writeFor(t *transaction, unit, run int64) error {
	packed := make([]byte, 0, 16*len(r.Cases))
	counts, failures := [3]int{}, []int64{}
	for i, c := range r.Cases {
		test, err := t.test(unit, c.Suite, c.Name)
		if err != nil {
			return err
		}
		if counts[statuses[c.Status]]++; c.Status == api.CaseFailed {
			failures = append(failures, test)
		}
		packed = append(packed, "[,"[min(i, 1)], '[')
		packed = strconv.AppendInt(packed, test, 10)
		packed = append(packed, ',')
		packed = strconv.AppendInt(packed, int64(statuses[c.Status]), 10)
		packed = append(packed, ',')
		packed = strconv.AppendInt(packed, c.Took.Microseconds(), 10)
		packed = append(packed, ']')
	}
	if len(packed) == 0 {
		packed = append(packed, '[')
	}
	failed, err := json.Marshal(failures)
	if err != nil {
		return err
	}
	_, err = t.Exec(`INSERT OR REPLACE INTO result (run, unit, began, passed, failed, skipped, same, failures, cases)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?)`, run, unit, milli(r.Began), counts[0], counts[1], counts[2], r.Same,
		string(failed), string(append(packed, ']')))
	return err
}

// Finding is a finding that is new or gone.
type Finding struct {
	Unit, Kind string
	At         time.Time
	api.Finding
}

// Found writes a finding that a run reports as new or gone.
func (w *Writer) Found(f Finding) { w.add(f) }

func (f Finding) write(t *transaction) error {
	unit, err := t.unit(f.Unit, f.Kind)
	if err != nil {
		return err
	}
	if f.Change == api.GoneFinding {
		_, err := t.Exec(`UPDATE finding SET gone = ? WHERE unit = ? AND file = ? AND severity = ? AND rule = ?
			AND message = ? AND gone IS NULL`, milli(f.At), unit, f.File, string(f.Severity), f.Rule, f.Message)
		return err
	}
	_, err = t.Exec(`INSERT INTO finding (unit, file, line, severity, rule, message, first) SELECT ?, ?, ?, ?, ?, ?, ?
		WHERE NOT EXISTS (SELECT 1 FROM finding WHERE unit = ? AND file = ? AND severity = ? AND rule = ? AND message = ?
		AND gone IS NULL)`, unit, f.File, f.Line, string(f.Severity), f.Rule, f.Message, milli(f.At),
		unit, f.File, string(f.Severity), f.Rule, f.Message)
	return err
}

// Sample is what a unit uses of the machine from a time on.
type Sample struct {
	Unit, Kind string
	Run        int // the newest
	At         time.Time
	CPU        float64 // of one core
	Memory     int64   // resident bytes
	Output     int64   // bytes written since the session began
}

// Used writes samples.
func (w *Writer) Used(samples []Sample) { w.add(usage(samples)) }

type usage []Sample

func (u usage) write(t *transaction) error {
	for _, s := range u {
		unit, err := t.unit(s.Unit, s.Kind)
		if err != nil {
			return err
		}
		if _, err := t.Exec(`INSERT OR REPLACE INTO sample (session, unit, at, cpu, memory, output)
			VALUES (?, ?, ?, ?, ?, ?)`,
			t.session, unit, milli(s.At), s.CPU, s.Memory, s.Output); err != nil {
			return err
		}
		if err := t.analyst.used(t, unit, s); err != nil {
			return err
		}
	}
	return nil
}
