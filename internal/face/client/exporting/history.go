package exporting

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"omnivigil/internal/api/exit"
	"omnivigil/internal/api/past"
	"omnivigil/internal/face/draw"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/store/history/reader"
	"omnivigil/internal/store/paths"
)

// history returns the history of the project, and its name.
func (x *exporting) history() (from *reader.Reader, project string, err error) {
	file, err := x.of.Find()
	if err != nil {
		return nil, "", err
	}
	project = filepath.Base(filepath.Dir(file))
	if p, err := settings.Read(file); err == nil {
		project = p.Name
	}
	from, err = reader.Read(paths.History(file))
	if errors.Is(err, reader.ErrNone) {
		return nil, "", exit.Refuse("omnivigil: the project of %s has no history yet", file)
	}
	if err != nil {
		return nil, "", exit.With(exit.Failed, err)
	}
	return from, project, nil
}

// dayCharts writes charts over days.
func (x *exporting) dayCharts() error {
	if len(x.measures) > 0 {
		return exit.Refuse("omnivigil: --days shows durations and memory, and takes no --measures")
	}
	from, project, err := x.history()
	if err != nil {
		return err
	}
	defer from.Close()
	first := timeline.FirstDay(time.Now(), x.days)
	q := past.Query{What: past.Days, Units: x.units, Since: first}
	h, err := from.History(context.Background(), q)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	q.What, q.Count = past.Trends, past.MaxCount
	trends, err := from.History(context.Background(), q)
	if err != nil {
		return exit.With(exit.Failed, err)
	}
	boxes := map[timeline.Measure][]timeline.Boxes{}
	for _, measure := range timeline.DayMeasures {
		boxes[measure] = timeline.BoxesOf(measure, h.Days, trends.Trends, x.units, first, x.days)
	}
	return x.write(dayRows(h.Days), func() (*draw.Page, error) { return draw.Days(project, boxes, first, time.Now()) })
}

// dayRows are days as rows.
func dayRows(days []past.Day) [][]string {
	rows := [][]string{{
		"unit", "day", "runs", "failed", "least", "quarter", "median", "three_quarters", "most", "memory",
	}}
	for _, d := range days {
		row := []string{d.Unit, d.Day.Format(time.DateOnly), strconv.Itoa(d.Runs), strconv.Itoa(d.Broken)}
		for _, v := range append(d.Took[:], d.Memory[2]) {
			row = append(row, strconv.FormatFloat(v, 'g', -1, 64))
		}
		rows = append(rows, row)
	}
	return rows
}

// historyLines writes the history as JSON lines, each with what it is: runs and ripples, newest first, then tests and
// trends.
func (x *exporting) historyLines() error {
	if x.format != "" && x.format != "json" {
		return exit.Refuse("omnivigil: the history is written as json (an object a line), not %q", x.format)
	}
	from, _, err := x.history()
	if err != nil {
		return err
	}
	defer from.Close()
	return x.into(func(w io.Writer) error {
		out := json.NewEncoder(w)
		out.SetEscapeHTML(false)
		for _, what := range []past.Kind{past.Runs, past.Ripples, past.Tests, past.Trends} {
			if err := x.linesOf(out, from, what); err != nil {
				return err
			}
		}
		return nil
	})
}

// linesOf writes one kind of rows, in pieces: a year has more than fits into one answer.
func (x *exporting) linesOf(out *json.Encoder, from *reader.Reader, what past.Kind) error {
	q := past.Query{What: what, Units: x.units, Count: past.MaxCount}
	for {
		h, err := from.History(context.Background(), q)
		if err != nil {
			return err
		}
		kind := strings.TrimSuffix(string(what), "s")
		for _, row := range h.Rows() {
			if err := out.Encode(map[string]any{"kind": kind, kind: row}); err != nil {
				return err
			}
		}
		oldest := h.Oldest()
		if !h.More || oldest.IsZero() || oldest.Equal(q.Until) {
			return nil
		}
		q.Until = oldest
	}
}
