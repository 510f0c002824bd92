package session

import (
	"context"
	"io"

	"omnivigil/internal/api"
	"omnivigil/internal/output/reader"
)

// log answers questions about the session's log.
func (s *Session) log() reader.Log {
	return reader.Log{Source: s.book, LastSave: s.lastSave, Census: &s.census, AsWritten: func(unit string) bool {
		u := s.Plan().Unit(unit)
		return u != nil && u.Unstructured
	}}
}

// lastSave returns the newest save; the zero value: there was none.
func (s *Session) lastSave() api.Save {
	saves := s.snapshot.Load().Saves
	if len(saves) == 0 {
		return api.Save{}
	}
	newest := saves[len(saves)-1]
	return api.Save{At: newest.At.Wall, Ripple: newest.Ripple}
}

// Lines implements api.Project.
func (s *Session) Lines(ctx context.Context, q api.LineQuery) (api.Page, error) {
	return s.log().Lines(ctx, q)
}

// Counts implements api.Project.
func (s *Session) Counts(ctx context.Context, q api.CountQuery) (api.Counts, error) {
	return s.log().Counts(ctx, q)
}

// Search implements api.Project.
func (s *Session) Search(ctx context.Context, q api.SearchQuery, found func(api.Found) error) error {
	return s.log().Search(ctx, q, found)
}

// Text implements api.Project.
func (s *Session) Text(ctx context.Context, q api.TextQuery, w io.Writer) (int64, error) {
	return s.log().Text(ctx, q, w)
}
