package history

import (
	"encoding/json"
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"omnivigil/internal/text/format"
	"omnivigil/internal/trend"
)

// Kind is what a trend is.
type Kind string

const (
	Higher Kind = "higher" // a shift upwards: slower, if it is about durations
	Lower  Kind = "lower"
	Grows  Kind = "grows" // the memory of a run
	Flaky  Kind = "flaky" // a test fails without a change
)

// Measure is what a trend is about.
type Measure string

const (
	Duration Measure = "duration" // of good runs, or until a service was ready
	Rest     Measure = "rest"     // from a save to rest
	Memory   Measure = "memory"   // in a run
	Output   Measure = "output"   // of a run
	Findings Measure = "findings"
	Failures Measure = "failures"
)

// Trend is something that has changed for longer than a run.
type Trend struct {
	ID            int64
	Kind          Kind
	Measure       Measure
	Unit          string // empty: it is about several
	Units         string // of Rest: those that a save runs, with spaces between
	Suite, Test   string // empty: it is about the unit
	Found         time.Time
	Since         time.Time // of the first run after it
	Run           int       // that run
	Before, After float64   // seconds, bytes, or a number; of Grows: bytes at first and bytes an hour
	Text          string
	Between       Between
	Dismissed     bool
}

// Between is what has changed between the last run before a trend and the first one after it.
type Between struct {
	Files []string `json:"files,omitempty"` // that were saved, at most maxBetween
	More  int      `json:"more,omitempty"`  // further ones
	From  string   `json:"from,omitempty"`  // the commits, if they differ
	To    string   `json:"to,omitempty"`
}

const maxBetween = 20

// point is where in history a value of a series is.
type point struct {
	run int
	at  time.Time
}

// series is a series of values that is watched for shifts.
type series struct {
	*trend.Detector
	points []point // of the newest values
	first  int     // the number of the first of these in the series
}

func newSeries(s trend.Sensitivity) *series { return &series{Detector: trend.NewDetector(s)} }

// maxPoints is more values than a detector remembers.
const maxPoints = 400

// note notes where a value is.
func (s *series) note(p point) {
	s.points = append(s.points, p)
	if over := len(s.points) - maxPoints; over > 0 {
		s.points = slices.Delete(s.points, 0, over)
		s.first += over
	}
}

// seed adds a value that was watched before.
func (s *series) seed(v trend.Value, p point) {
	s.note(p)
	s.Seed(v)
}

// add adds a value, and returns the shift that it makes certain, with the last run before it and the first one after.
func (s *series) add(v trend.Value, p point) (shift trend.Shift, before, after point, is bool) {
	s.note(p)
	if shift, is = s.Add(v); is {
		at := max(shift.At-s.first, 0)
		before, after = s.points[max(at-1, 0)], s.points[at]
	}
	return shift, before, after, is
}

// seriesKey identifies a series.
type seriesKey struct {
	measure Measure
	unit    int64 // 0: of several
	test    int64 // 0: of the unit
	units   string
}

// analyst watches what is written for trends. Only the goroutine that writes uses it.
type analyst struct {
	found  func(Trend)
	series map[seriesKey]*series
	memory map[string]*memory
	flaky  map[int64]*flakiness // by test
	news   []Trend              // of the transaction
}

func newAnalyst(found func(Trend)) analyst {
	return analyst{
		found: found, series: map[seriesKey]*series{}, memory: map[string]*memory{}, flaky: map[int64]*flakiness{},
	}
}

// tell reports the trends of a transaction that was committed.
func (a *analyst) tell() {
	for _, t := range a.news {
		a.found(t)
	}
	a.news = nil
}

// forget drops the trends of a transaction that failed.
func (a *analyst) forget() { a.news = nil }

// enter writes a trend.
func (a *analyst) enter(t *transaction, key seriesKey, news Trend, before point) error {
	var err error
	if news.Between, err = t.between(before.at, news.Since); err != nil {
		return err
	}
	between, err := json.Marshal(news.Between)
	if err != nil {
		return err
	}
	err = t.QueryRow(`INSERT INTO trend (kind, unit, test, units, measure, found, since, run, before, after, text, changes)
		VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) RETURNING id`, string(news.Kind), nullable(key.unit), nullable(key.test),
		key.units,
		string(news.Measure),
		milli(news.Found), milli(news.Since), news.Run, news.Before, news.After, news.Text, string(between)).Scan(&news.ID)
	a.news = append(a.news, news)
	return err
}

// between tells what has changed between two runs.
func (t *transaction) between(from, to time.Time) (b Between, err error) {
	rows, err := t.Query(
		"SELECT paths FROM ripple WHERE since > ? AND since <= ? ORDER BY since DESC",
		milli(from),
		milli(to),
	)
	if err != nil {
		return b, err
	}
	defer rows.Close()
	for rows.Next() {
		var text string
		var paths []string
		if err := rows.Scan(&text); err != nil {
			return b, err
		}
		if err := json.Unmarshal([]byte(text), &paths); err != nil {
			return b, fmt.Errorf("the paths of a ripple: %w", err)
		}
		for _, p := range paths {
			switch {
			case slices.Contains(b.Files, p):
			case len(b.Files) < maxBetween:
				b.Files = append(b.Files, p)
			default:
				b.More++
			}
		}
	}
	if err := rows.Err(); err != nil {
		return b, err
	}
	commit := func(at time.Time) (hash string, err error) {
		err = t.QueryRow(`SELECT coalesce((SELECT hash FROM run JOIN revision ON revision.id = revision WHERE began <= ?
			ORDER BY began DESC LIMIT 1), '')`, milli(at)).Scan(&hash)
		return hash, err
	}
	if b.From, err = commit(from); err != nil {
		return b, err
	}
	if b.To, err = commit(to); b.From == b.To {
		b.From, b.To = "", ""
	}
	return b, err
}

// value adds a value to a series and enters the shift that it makes certain.
func (a *analyst) value(t *transaction, key seriesKey, s trend.Sensitivity, v trend.Value, p point, of Trend) error {
	watched := a.series[key]
	if watched == nil {
		watched = newSeries(s)
		a.series[key] = watched
		if err := t.earlier(watched, key, p); err != nil {
			return err
		}
	}
	shift, before, after, is := watched.add(v, p)
	if !is {
		return nil
	}
	of.Kind, of.Before, of.After, of.Since, of.Run = Higher, shift.Before, shift.After, after.at, after.run
	of.Found = p.at
	if shift.Ratio < 1 {
		of.Kind = Lower
	}
	of.Text = shiftText(of, shift.Ratio)
	return a.enter(t, key, of, before)
}

// shiftText tells a shift in a sentence without the unit.
func shiftText(t Trend, ratio float64) string {
	percent := math.Round(math.Abs(ratio-1) * 100)
	amount := func(v float64) string { return fmt.Sprintf("%.0f", v) }
	word := map[bool]string{true: "more", false: "less"}[t.Kind == Higher]
	what := map[Measure]string{Memory: "memory", Output: "output", Findings: "findings"}[t.Measure]
	switch t.Measure {
	case Duration, Rest:
		amount = func(v float64) string { return format.Duration(time.Duration(v * float64(time.Second))) }
		word, what = map[bool]string{true: "slower", false: "faster"}[t.Kind == Higher], ""
	case Memory, Output:
		amount = func(v float64) string { return format.Bytes(v) }
	}
	since := "run"
	if t.Measure == Rest {
		what, since = "to rest", "ripple"
	}
	text := strings.TrimSpace(fmt.Sprintf("%.0f %% %s %s", percent, word, what))
	return fmt.Sprintf("%s since %s %d: %s, before %s", text, since, t.Run, amount(t.After), amount(t.Before))
}
