package reader

import (
	"context"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/output/lens"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/text/escape"
)

// readOn is how long a query reads on in a log for its census.
const readOn = 4 * time.Millisecond

// markNew marks the lines of a page whose kind their unit has not written before the newest save.
func (l Log) markNew(v *logbook.View, page *api.Page) error {
	if l.Census == nil {
		return nil
	}
	var err error
	if page.Known, err = l.Census.Advance(v, readOn); err != nil {
		return err
	}
	save := l.lastSave()
	if save.At.IsZero() {
		return nil
	}
	since, err := v.At(save.At)
	if err != nil {
		return err
	}
	for i := range page.Lines {
		one := &page.Lines[i]
		one.New = one.Stream == api.Output && one.Number >= since &&
			l.Census.IsNew(one.Unit, one.Number, []byte(one.Text), since)
	}
	return nil
}

// minColumn is the minimum length of a column.
const minColumn = 100 * time.Millisecond

// Counts implements api.Log.
func (l Log) Counts(_ context.Context, q api.CountQuery) (api.Counts, error) {
	switch {
	case q.Columns <= 0 || q.From.IsZero():
		return api.Counts{}, &api.QueryError{Text: "from and columns are required: since when, and in how many parts?"}
	case q.Column.Duration() < minColumn:
		return api.Counts{}, &api.QueryError{Text: "column must be at least 0.1 (seconds)"}
	case l.Census == nil:
		return api.Counts{}, nil
	}
	v, err := l.Source.View()
	if err != nil {
		return api.Counts{}, err
	}
	out := api.Counts{Total: v.End()}
	if out.Known, err = l.Census.Advance(v, readOn); err != nil {
		return out, err
	}
	var wanted func(string) bool
	if len(q.Units) > 0 {
		wanted = func(unit string) bool { return slices.Contains(q.Units, unit) }
	}
	for _, one := range l.Census.Over(wanted, q.From, q.Column.Duration(), min(q.Columns, api.MaxLines)) {
		out.Columns = append(out.Columns, api.Count(one))
	}
	return out, nil
}

// valuesOf returns the values of a line with colors.
func valuesOf(text string) (all []api.Value) {
	for _, v := range lens.Values(escape.Strip(text)) {
		all = append(all, api.Value(v))
	}
	return all
}
