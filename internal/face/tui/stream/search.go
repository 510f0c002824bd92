package stream

import (
	"context"
	"fmt"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
)

// search is what a stream is searched for, and what has been found so far.
type search struct {
	text    string
	matcher *query.Matcher // nil: there is no search, or its expression is invalid
	problem string
	hit     int64 // the line of the current match; -1: none
	found   api.Found
	number  int    // identifies the search
	stop    func() // ends it
}

// result is what a search has found so far.
type result struct {
	number int // of the search
	back   bool
	again  bool // it moves to another match; the matches have been counted before
	found  api.Found
	err    error
}

// status tells how many lines match.
func (r *search) status(m *view.Model) string {
	if r.matcher == nil {
		return ""
	}
	text := countOf(r.found.Matches)
	if !r.found.Done && r.found.Total > 0 {
		text += fmt.Sprintf(" (%d %% searched)", 100*r.found.Searched/r.found.Total)
	}
	return m.Palette.Dim.Render(text) + "  "
}

func countOf(n int64) string {
	if n == 1 {
		return "1 line matches"
	}
	return fmt.Sprintf("%d lines match", n)
}

// SearchText is what is searched for, SearchProblem why it cannot be, SearchStatus how many lines match.
func (s *Stream) SearchText() string                { return s.search.text }
func (s *Stream) SearchProblem() string             { return s.search.problem }
func (s *Stream) SearchStatus(m *view.Model) string { return s.search.status(m) }

// IsSearching reports whether something is searched for.
func (s *Stream) IsSearching() bool { return s.search.matcher != nil }

// Search searches for another text, up from the newest line shown; empty: for nothing.
func (s *Stream) Search(m *view.Model, text string) {
	s.search.end()
	number := s.search.number + 1
	s.search = search{text: text, number: number, hit: -1}
	if text == "" {
		return
	}
	p := query.ParsePattern(text)
	matcher, err := p.Compile()
	if err != nil {
		s.search.problem = err.Error()
		return
	}
	s.search.matcher = matcher
	s.begin(
		m,
		api.SearchQuery{Pattern: text, Filter: s.Filter.String(), From: s.page.End, Back: true, Most: 1, Count: true,
			Raw: s.raw},
	)
}

// Next goes to the next match, or by -1 to the previous one.
func (s *Stream) Next(m *view.Model, by int) {
	if s.search.matcher == nil {
		return
	}
	q := api.SearchQuery{Pattern: s.search.text, Filter: s.Filter.String(), Most: 1, From: s.search.hit + 1,
		Raw: s.raw}
	if q.Back = by < 0; q.Back {
		q.From = s.search.hit
	}
	if s.search.hit < 0 {
		q.From = s.page.End
	}
	s.begin(m, q)
}

func (r *search) end() {
	if r.stop != nil {
		r.stop()
	}
}

// begin searches in the background, and shows what is found as it is found.
func (s *Stream) begin(m *view.Model, q api.SearchQuery) {
	ctx, stop := context.WithCancel(m.Ctx)
	number, session := s.search.number, s.Session
	if q.Count { // it keeps counting while the user moves from match to match
		s.search.end()
		s.search.stop, s.search.found = stop, api.Found{}
	}
	found := make(chan result)
	go func() {
		defer close(found)
		defer stop()
		send := func(r result) error {
			r.number, r.back, r.again = number, q.Back, !q.Count
			select {
			case found <- r:
				return nil
			case <-ctx.Done():
				return ctx.Err()
			}
		}
		from, err := m.Record(ctx, session)
		if err == nil {
			err = from.Search(ctx, q, func(f api.Found) error { return send(result{found: f}) })
		}
		if err != nil && ctx.Err() == nil {
			send(result{err: err})
		}
	}()
	s.await(m, found)
}

// await takes what a search finds next, until it is done.
func (s *Stream) await(m *view.Model, found <-chan result) {
	m.Later(func(ctx context.Context) view.Then {
		select {
		case r, more := <-found:
			if !more {
				return nil
			}
			return func() {
				if !r.found.Done && r.err == nil {
					s.await(m, found)
				}
				s.takeResult(m, r)
			}
		case <-ctx.Done():
			return nil
		}
	})
}

// takeResult shows what a search has found.
func (s *Stream) takeResult(m *view.Model, r result) {
	switch {
	case r.number != s.search.number: // of a search for an earlier text
		return
	case r.err != nil:
		s.search.problem = r.err.Error()
	case len(r.found.Lines) > 0:
		s.search.hit = r.found.Lines[0].Number
		s.showLine(s.search.hit)
	case r.found.Done && r.again && r.found.Matches > 0: // it was shown before
	case r.found.Done && r.again && r.back:
		m.Said = "there is no match before this one"
	case r.found.Done && r.again:
		m.Said = "there is no match after this one"
	case r.found.Done && s.search.hit < 0 && r.found.Matches > 0: // all are farther down
		s.search.found = r.found
		s.begin(m, api.SearchQuery{Pattern: s.search.text, Filter: s.Filter.String(), From: s.page.End, Most: 1,
			Raw: s.raw})
		return
	}
	if !r.again {
		s.search.found = r.found
	}
}
