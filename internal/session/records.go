package session

import (
	"context"
	"io"
	"slices"

	"omnivigil/internal/api"
	"omnivigil/internal/output/reader"
)

// unitsOf returns the units that a query is about, in the order of the settings.
func (s *Session) unitsOf(q api.ResultQuery) ([]string, error) {
	named, err := s.named(q.Units)
	if err != nil {
		return nil, err
	}
	var units []string
	for _, u := range s.Plan().Units {
		if len(q.Units) == 0 || slices.Contains(named, u.Name) {
			units = append(units, u.Name)
		}
	}
	return units, nil
}

// Cases implements api.Project.
func (s *Session) Cases(ctx context.Context, q api.ResultQuery) (api.CasePage, error) {
	units, err := s.unitsOf(q)
	if err != nil {
		return api.CasePage{}, err
	}
	if !q.At.IsZero() {
		return s.reading.Cases(ctx, units, q)
	}
	return s.outcomes.Cases(units, q)
}

// Case implements api.Project.
func (s *Session) Case(_ context.Context, unit string, name api.CaseName) (api.Case, error) {
	return s.outcomes.Case(unit, name)
}

// Findings implements api.Project.
func (s *Session) Findings(ctx context.Context, q api.ResultQuery) (api.FindingPage, error) {
	units, err := s.unitsOf(q)
	if err != nil {
		return api.FindingPage{}, err
	}
	if !q.At.IsZero() {
		return s.reading.Findings(ctx, units, q)
	}
	return s.outcomes.Findings(units, q)
}

// narrowing returns the arguments that narrow a unit to what a request names, and a description of that.
func (s *Session) narrowing(units []string, r api.Request) (words []string, to string, err error) {
	if len(units) != 1 {
		return nil, "", api.Refuse("only one unit can be narrowed at a time, not %d", len(units))
	}
	return s.outcomes.Narrowing(s.Plan().Unit(units[0]), r)
}

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
