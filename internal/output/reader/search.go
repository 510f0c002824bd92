package reader

import (
	"context"
	"fmt"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/query"
)

// tellPause is how often a search reports its progress.
const tellPause = 100 * time.Millisecond

// Search implements api.Log.
func (l Log) Search(ctx context.Context, q api.SearchQuery, found func(api.Found) error) error {
	v, t, err := l.begin(q.Filter, "", 0, q.Raw)
	if err != nil {
		return err
	}
	if err := t.add(query.ParsePattern(q.Pattern), false); err != nil {
		return &api.QueryError{Text: fmt.Sprintf("the search cannot be read: %v", err)}
	}
	s := searching{
		view:  v,
		terms: t,
		query: q,
		found: found,
		so:    api.Found{Total: v.End() - v.First()},
		told:  time.Now(),
	}
	if q.Most > 0 {
		if err := s.nearest(ctx); err != nil {
			return err
		}
	}
	if q.Count {
		if err := s.count(ctx); err != nil {
			return err
		}
	}
	if s.so.Done = true; q.Count {
		s.so.Searched = s.so.Total
	}
	return s.tell()
}

// searching is a search in progress.
type searching struct {
	view  *logbook.View
	terms *terms
	query api.SearchQuery
	found func(api.Found) error
	so    api.Found // the result so far
	told  time.Time
	err   error // returned by found
}

func (s *searching) tell() error {
	s.told = time.Now()
	err := s.found(s.so)
	s.so.Lines = nil
	return err
}

// on is called now and then, and reports whether the search should continue.
func (s *searching) on() bool {
	if time.Since(s.told) > tellPause {
		s.err = s.tell()
	}
	return s.err == nil
}

// nearest finds the lines that are requested.
func (s *searching) nearest(ctx context.Context) error {
	left := min(s.query.Most, api.MaxLines)
	sc := scan{view: s.view, terms: s.terms, from: s.query.From, back: s.query.Back}
	sc.searched = func(lines int64) bool {
		if !s.query.Count {
			s.so.Searched += lines
		}
		if len(s.so.Lines) > 0 && s.err == nil {
			s.err = s.tell()
		}
		return s.on()
	}
	err := sc.run(ctx, func(l logbook.Line) bool {
		s.so.Lines = append(s.so.Lines, Line(l))
		if left--; !s.query.Count {
			s.so.Matches++
		}
		return left > 0
	})
	if err == nil {
		err = s.err
	}
	if err == nil && len(s.so.Lines) > 0 {
		err = s.tell()
	}
	return err
}

// count counts all lines that match.
func (s *searching) count(ctx context.Context) error {
	sc := scan{view: s.view, terms: s.terms, from: s.view.First()}
	sc.searched = func(lines int64) bool {
		s.so.Searched += lines
		return s.on()
	}
	err := sc.each(ctx, func(*logbook.Batch, int64, []byte) bool {
		s.so.Matches++
		return true
	})
	if err == nil {
		err = s.err
	}
	return err
}
