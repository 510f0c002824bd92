package session

import (
	"context"
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/logbook"
)

// Lines implements api.Project.
func (s *Session) Lines(_ context.Context, q api.LineQuery) (api.Page, error) { return Read(s.book, q) }

// Read returns a part of a log.
func Read(book Book, q api.LineQuery) (api.Page, error) {
	if q.Count <= 0 {
		q.Count = api.DefaultLines
	}
	q.Count = min(q.Count, api.MostLines)
	unit := q.Unit
	if unit == "" {
		unit = logbook.All
	}
	page := api.Page{Total: book.Len(unit)}
	if q.Run > 0 {
		return linesOfRun(book, page, q)
	}
	end, backwards, err := endOf(book, unit, page.Total, q)
	switch {
	case err != nil:
	case backwards && q.Fold:
		err = fold(book, unit, &page, end, q.Count)
	case backwards:
		err = window(book, unit, &page, end-int64(q.Count), end)
	default:
		from := q.From
		if !q.Since.IsZero() {
			from, err = book.Position(unit, q.Since)
		}
		if err == nil {
			err = window(book, unit, &page, from, from+int64(q.Count))
		}
	}
	return page, err
}

// endOf returns the position before which lines are asked for, if they are.
func endOf(book Book, unit string, total int64, q api.LineQuery) (end int64, backwards bool, err error) {
	switch {
	case q.Last:
		return total, true, nil
	case q.End > 0:
		return min(q.End, total), true, nil
	case !q.Until.IsZero():
		end, err = book.Position(unit, q.Until)
		return end, true, err
	}
	return 0, false, nil
}

// window puts the lines between two positions into a page.
func window(book Book, unit string, page *api.Page, from, end int64) error {
	page.From = max(from, 0)
	lines, err := book.Window(unit, page.From, int(max(end-page.From, 0)))
	page.Lines, page.End = linesOf(lines), page.From+int64(len(lines))
	return err
}

// fold puts the last lines before a position into a page, as many that differ from the one
// before as are asked for, if they are not too far back.
func fold(book Book, unit string, page *api.Page, end int64, count int) error {
	const furthest = 64
	page.From, page.End = end, end
	for page.From > 0 && len(page.Lines) < count && end-page.From < int64(furthest*count) {
		from := max(page.From-int64(max(count, api.DefaultLines)), 0)
		lines, err := book.Window(unit, from, int(page.From-from))
		if err != nil {
			return err
		}
		page.Lines, page.From = folded(append(linesOf(lines), page.Lines...)), from
	}
	return nil
}

// folded joins lines that say the same thing again.
func folded(lines []api.Line) []api.Line {
	out := lines[:0]
	for _, l := range lines {
		if n := len(out); n > 0 && l.Stream == api.Output && l.Text != "" {
			if last := &out[n-1]; last.Stream == api.Output && last.Unit == l.Unit && last.Text == l.Text {
				last.Times = max(last.Times, 1) + max(l.Times, 1)
				continue
			}
		}
		out = append(out, l)
	}
	return out
}

// linesOfRun returns lines of one run: the last ones, or those that say why it ended.
func linesOfRun(book Book, page api.Page, q api.LineQuery) (api.Page, error) {
	if q.Unit == "" {
		return page, api.Refuse("a run is one of a unit: which one?")
	}
	if q.Why {
		lines, err := book.LastWords(q.Unit, q.Run, q.Count)
		page.Lines = linesOf(lines)
		return page, err
	}
	const step = 1000
	var found []logbook.Line
	for end := page.Total; end > 0 && len(found) < q.Count; end -= step {
		from := max(end-step, 0)
		lines, err := book.Window(q.Unit, from, int(end-from))
		if err != nil {
			return page, err
		}
		older := len(lines) > 0 && lines[0].Run < q.Run
		lines = slices.DeleteFunc(lines, func(l logbook.Line) bool { return l.Run != q.Run })
		if found = append(lines, found...); older {
			break
		}
	}
	page.Lines = linesOf(found[max(len(found)-q.Count, 0):])
	return page, nil
}
