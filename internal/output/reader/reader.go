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
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/query"
	"omnivigil/internal/output/stacktrace"
	"omnivigil/internal/text/escape"
)

// Source is where a log is read.
type Source interface {
	View() (*logbook.View, error)
}

// Log answers questions about a log. It implements api.Log.
type Log struct {
	Source Source
	// LastSave returns the ripple of the newest save, 0 if there was none; nil: there never is one.
	LastSave func() int
	// AsWritten reports whether the lines of a unit are always shown as they were written; nil: those of none.
	AsWritten func(unit string) bool
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
	last := 0
	if l.LastSave != nil {
		last = l.LastSave()
	}
	t, err := compile(f.OnLast(last))
	if err != nil {
		return nil, nil, &api.QueryError{Text: fmt.Sprintf("the filter cannot be read: %v", err)}
	}
	t.printer = printer{raw, l.AsWritten}
	v, err := l.Source.View()
	return v, t, err
}

// Lines implements api.Log.
func (l Log) Lines(ctx context.Context, q api.LineQuery) (api.Page, error) {
	v, t, err := l.begin(q.Filter, q.Unit, q.Run, q.Raw)
	if err != nil {
		return api.Page{}, err
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
		return p.page, err
	}
	end, back, err := endOf(v, q)
	if err != nil {
		return p.page, err
	}
	if !back {
		if !q.Since.IsZero() {
			q.From, err = v.At(q.Since)
		}
		if err == nil {
			err = p.forward(q.From, q.Count)
		}
		return p.page, err
	}
	if end, err = p.move(end, q.Move); err != nil {
		return p.page, err
	}
	return p.page, p.back(end, q.Count, q.Fold)
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

// forward fills the page with the first lines from a number on.
func (p *pager) forward(from int64, count int) error {
	found, err := p.find(from, false, count)
	p.page.Lines, p.page.From = linesOf(found), max(from, p.view.First())
	if p.page.End = max(p.view.End(), from); len(found) == count {
		p.page.End = found[count-1].Number + 1
	}
	if n := len(found); n > 0 {
		p.page.From = found[0].Number
	}
	return err
}

// back fills the page with the last lines before a number. With folding, as many different lines are returned, unless
// they are too far back.
func (p *pager) back(end int64, count int, fold bool) error {
	const furthest = 16
	p.page.From, p.page.End = end, end
	sc := scan{view: p.view, terms: p.terms, back: true, from: end, whole: !p.terms.all()}
	var found []api.Line // the last line first
	seen := 0
	err := sc.each(p.ctx, func(b *logbook.Batch, number int64, text []byte) bool {
		if n := len(found); fold && n > 0 && again(&found[n-1], b, text) {
			l := &found[n-1] // of equal lines, the first one is kept
			l.Times, l.Number, l.At = max(l.Times, 1)+1, number, time.Unix(0, b.At)
		} else if n == count {
			return false
		} else {
			found = append(
				found,
				Line(logbook.Line{Number: number, At: time.Unix(0, b.At), Text: string(text), Entry: *b.Entry}),
			)
		}
		seen++
		return fold && seen < furthest*count || len(found) < count
	})
	slices.Reverse(found)
	if p.page.Lines = found; fold {
		p.page.Lines = folded(found)
	}
	if len(found) > 0 {
		p.page.From = found[0].Number
	}
	if seen < count {
		p.page.From = min(p.page.From, p.view.First())
	}
	return err
}

// again reports whether a line of output has the same text as the next one.
func again(after *api.Line, b *logbook.Batch, text []byte) bool {
	return len(text) > 0 && after.Stream == api.Output && b.Stream == logbook.Output && after.Unit == b.Unit &&
		after.Text == string(text)
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

// folded folds consecutive equal lines, and equal stack traces. The first of them has their number.
func folded(all []api.Line) []api.Line {
	out := all[:0]
	var last []api.Line // the newest block in out
	for len(all) > 0 {
		n := blockLength(all)
		block := all[:n]
		all = all[n:]
		if sameBlock(last, block) {
			last[0].Times = max(last[0].Times, 1) + max(block[0].Times, 1)
			continue
		}
		from := len(out)
		out = append(out, block...)
		last = out[from:]
	}
	return out
}

// blockLength is how many lines at the beginning form one stack trace, or 1.
func blockLength(all []api.Line) int {
	first := all[0]
	var r stacktrace.Reader
	for n, l := range all {
		same := l.Stream == api.Output && l.Unit == first.Unit && l.Run == first.Run
		if n > 0 && (!same || !r.Continues(escape.Strip(l.Text))) || first.Stream != api.Output {
			return max(n, 1)
		}
		if n == 0 {
			r.Continues(escape.Strip(l.Text))
		}
	}
	return len(all)
}

// sameBlock reports whether two blocks of one unit's output have the same text, and any.
func sameBlock(a, b []api.Line) bool {
	if len(a) != len(b) || a[0].Stream != api.Output || b[0].Stream != api.Output || a[0].Unit != b[0].Unit ||
		a[0].Text == "" {
		return false
	}
	return slices.EqualFunc(a, b, func(x, y api.Line) bool { return x.Text == y.Text })
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
