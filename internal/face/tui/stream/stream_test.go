package stream

import (
	"context"
	"testing"

	"github.com/stretchr/testify/assert"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
)

// project has no match in its output.
type project struct{ api.Project }

func (project) Search(context.Context, api.SearchQuery, func(api.Found) error) error { return nil }

// TestSearchIsForTheNewestText checks that a late result of a search for an earlier text is ignored.
func TestSearchIsForTheNewestText(t *testing.T) {
	m := view.NewModel(t.Context(), project{}, &api.Snapshot{}, nil)
	s := New(Beyond{})
	s.Search(m, "tide")
	late := s.search.number
	s.Search(m, "crossing 100")
	s.takeResult(m, result{number: late, found: api.Found{Matches: 4, Lines: []api.Line{{Number: 3}}}})
	assert.EqualValues(t, -1, s.search.hit)
	assert.Zero(t, s.search.found.Matches)
}
