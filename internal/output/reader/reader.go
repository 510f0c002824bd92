// Package reader answers what faces ask of a log: pages, filtered and folded, and searches. It works in the process
// that writes the log and in any other that can read its files. Start reading at Log.
package reader

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"math"
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/output/lens"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/query"
)

// Source is where a log is read.
type Source interface {
	View() (*logbook.View, error)
}

// Log answers questions about a log. It implements api.Log.
type Log struct {
	Source Source
	// LastSave returns the newest save, the zero value if there was none; nil: there never is one.
	LastSave func() api.Save
	// AsWritten reports whether the lines of a unit are always shown as they were written; nil: those of none.
	AsWritten func(unit string) bool
	Census    *lens.Census // of this log; nil: no kind of line is new, and lines are not counted
}

var _ api.Log = Log{}

// begin returns a view of the log, and the terms of a filter with those of unit and run.
func (l Log) begin(text, unit string, run int, raw bool) (*logbook.View, *terms, error) {
	f, err := query.Parse(text)
	if err != nil {
		return nil, nil, &api.QueryError{Text: fmt.Sprintf("the filter cannot be read: %v", err)}
	}
	if unit != "" {
		f = append(f, query.Term{Field: query.Units, Units: []string{unit}})
	}
	if run > 0 {
		if unit == "" {
			return nil, nil, &api.QueryError{Text: "a run is one of a unit: which one?"}
		}
		f = append(f, query.Term{Field: query.Run, Number: run})
	}
	t, err := compile(f.OnLast(l.lastSave().Ripple))
	if err != nil {
		return nil, nil, &api.QueryError{Text: fmt.Sprintf("the filter cannot be read: %v", err)}
	}
	t.printer = printer{raw, l.AsWritten}
	v, err := l.Source.View()
	return v, t, err
}

// lastSave returns the newest save; the zero value: there was none.
func (l Log) lastSave() api.Save {
	if l.LastSave == nil {
		return api.Save{}
	}
	return l.LastSave()
}

// Lines implements api.Log.
func (l Log) Lines(ctx context.Context, q api.LineQuery) (api.Page, error) {
	page, v, err := l.lines(ctx, q)
	if err == nil && q.New {
		err = l.markNew(v, &page)
	}
	if q.Values {
		for i := range page.Lines {
			page.Lines[i].Values = valuesOf(page.Lines[i].Text)
		}
	}
	return page, err
}

// lines returns the page of a query, without what its lines are marked with.
func (l Log) lines(ctx context.Context, q api.LineQuery) (api.Page, *logbook.View, error) {
	v, t, err := l.begin(q.Filter, q.Unit, q.Run, q.Raw)
	if err != nil {
		return api.Page{}, nil, err
	}
	if q.Count <= 0 {
		q.Count = api.DefaultLines
	}
	q.Count = min(q.Count, api.MaxLines)
	p := pager{ctx: ctx, view: v, terms: t, page: api.Page{First: v.First(), Total: v.End()}}
	if q.Why {
		lines, err := v.LastWords(q.Unit, q.Run, q.Count)
		for _, line := range lines {
			p.page.Lines = append(p.page.Lines, Line(line))
		}
		return p.page, v, err
	}
	end, back, err := endOf(v, q)
	if err != nil {
		return p.page, v, err
	}
	if !back {
		if !q.Since.IsZero() {
			q.From, err = v.At(q.Since)
		}
		if err == nil {
			err = p.forward(q.From, q.To, q.Count)
		}
		return p.page, v, err
	}
	if end, err = p.move(end, q.Move); err != nil {
		return p.page, v, err
	}
	err = p.back(end, q.Count, foldingOf(q))
	return p.page, v, err
}

// endOf returns the number before which lines are requested, if there is one.
func endOf(v *logbook.View, q api.LineQuery) (end int64, back bool, err error) {
	switch {
	case q.Last || q.Run > 0 && q.From == 0 && q.End == 0 && q.Since.IsZero() && q.Until.IsZero():
		return v.End(), true, nil
	case q.End > 0:
		return min(q.End, v.End()), true, nil
	case !q.Until.IsZero():
		end, err = v.At(q.Until)
		return end, true, err
	}
	return 0, false, nil
}

// pager makes a page.
type pager struct {
	ctx   context.Context
	view  *logbook.View
	terms *terms
	page  api.Page
}

// forward fills the page with the first lines from a number on, and before another; 0: before none.
func (p *pager) forward(from, to int64, count int) error {
	found, err := p.find(from, false, count)
	if p.page.End = max(p.view.End(), from); len(found) == count {
		p.page.End = found[count-1].Number + 1
	}
	if to > 0 && to < p.page.End {
		found = slices.DeleteFunc(found, func(l logbook.Line) bool { return l.Number >= to })
		p.page.End = max(to, from)
	}
	p.page.Lines, p.page.From = linesOf(found), max(from, p.view.First())
	if n := len(found); n > 0 {
		p.page.From = found[0].Number
	}
	return err
}

// back fills the page with the last lines before a number. With folding, as many different lines are returned, unless
// they are too far back.
func (p *pager) back(end int64, count int, by folding) error {
	p.page.From, p.page.End = end, end
	sc := scan{view: p.view, terms: p.terms, back: true, from: end, whole: !p.terms.all()}
	f := folder{by: by}
	seen := 0
	err := sc.each(p.ctx, func(b *logbook.Batch, number int64, text []byte) bool {
		switch {
		case f.join(b, number, text):
		case len(f.found) == count:
			return false
		default:
			f.add(b, number, text)
		}
		seen++
		p.page.From = number
		return by.readsOn(seen, len(f.found), count, end-number)
	})
	p.page.Lines = f.lines()
	if seen < count {
		p.page.From = min(p.page.From, p.view.First())
	}
	return err
}

// move returns the number so many lines after another one, or before it if by is negative.
func (p *pager) move(end int64, by int) (int64, error) {
	most := min(max(by, -by), api.MaxLines)
	if most == 0 {
		return end, nil
	}
	found, err := p.find(end, by < 0, most)
	if err != nil || len(found) == 0 {
		return end, err
	}
	if by < 0 {
		return found[0].Number, nil
	}
	return found[len(found)-1].Number + 1, nil
}

// find returns lines that match the filter.
func (p *pager) find(from int64, back bool, most int) ([]logbook.Line, error) {
	s := scan{view: p.view, terms: p.terms, back: back, from: from, whole: !p.terms.all()}
	var found []logbook.Line
	err := s.run(p.ctx, func(l logbook.Line) bool {
		found = append(found, l)
		return len(found) < most
	})
	if back {
		slices.Reverse(found)
	}
	return found, err
}

// Text implements api.Log.
func (l Log) Text(ctx context.Context, q api.TextQuery, w io.Writer) (int64, error) {
	from, end := q.From, cmp.Or(q.End, math.MaxInt64)
	v, err := l.Source.View()
	if err != nil {
		return from, err
	}
	p := printer{q.Raw, l.AsWritten}
	from = max(from, v.First())
	err = v.Scan(from, false, nil, func(c *logbook.Chunk) (bool, error) {
		if c.First >= end {
			return false, ctx.Err()
		}
		_, err := w.Write(p.text(c, from, end))
		if err == nil {
			from = min(c.End, end)
			err = ctx.Err()
		}
		return true, err
	})
	return from, err
}

var (
	streams = [...]api.Stream{
		logbook.Output: api.Output,
		logbook.Opens:  api.Opens,
		logbook.Ends:   api.Ends,
		logbook.Note:   api.Note,
	}
	tones = [...]api.Tone{
		logbook.Current: api.ToneCurrent,
		logbook.Moving:  api.ToneMoving,
		logbook.Stale:   api.ToneStale,
		logbook.Broken:  api.ToneBroken,
	}
)

// Line returns a line as faces get it.
func Line(l logbook.Line) api.Line {
	out := api.Line{
		Number:    l.Number,
		At:        l.At,
		Unit:      l.Unit,
		Run:       l.Run,
		Ripple:    l.Ripple,
		Text:      l.Text,
		Continues: l.Continues,
	}
	if int(l.Stream) < len(streams) {
		out.Stream = streams[l.Stream]
	}
	if int(l.Tone) < len(tones) {
		out.Tone = tones[l.Tone]
	}
	return out
}

func linesOf(all []logbook.Line) []api.Line {
	out := make([]api.Line, len(all))
	for i, l := range all {
		out[i] = Line(l)
	}
	return out
}
