// Package ended reads sessions of a project that have ended: from the project's history, and from their logs as long as
// these are kept. Start reading at Open.
package ended

import (
	"cmp"
	"context"
	"errors"
	"io/fs"
	"os"
	"path/filepath"

	"omnivigil/internal/api"
	"omnivigil/internal/api/changes"
	"omnivigil/internal/output/reader"
	tracked "omnivigil/internal/session/changes"
	"omnivigil/internal/session/history"
	"omnivigil/internal/session/outcomes"
	"omnivigil/internal/store/contents"
	kept "omnivigil/internal/store/history"
	past "omnivigil/internal/store/history/reader"
)

// Session is a session that has ended. Its methods may be called from any goroutine.
type Session struct {
	api.Log
	dir     string // of its log
	state   *api.Snapshot
	history *history.Reading
	// results are its results in full, if it is the newest session; nil: those of the history, without reasons.
	results *outcomes.Results
	store   *contents.Store
}

var _ api.Record = (*Session)(nil)

// Open returns the session whose log is, or was, in a directory. Results are those in full, or nil. A *api.Refusal
// tells that it is not kept.
func Open(ctx context.Context, from *history.Reading, store *contents.Store, dir string,
	results *outcomes.Results,
) (*Session, error) {
	s := &Session{Log: reader.Past(dir), dir: dir, history: from, results: results, store: store}
	if _, err := os.Stat(dir); errors.Is(err, fs.ErrNotExist) {
		s.Log = noLog{}
	}
	var err error
	if s.state, err = s.stored(ctx); err != nil {
		return nil, api.Refuse("the session %s is not kept: %v", filepath.Base(dir), err)
	}
	return s, nil
}

// stored is the state that the session was left in: in the history or, of an older version, in a file.
func (s *Session) stored(ctx context.Context) (*api.Snapshot, error) {
	from, err := s.history.Open()
	if err == nil {
		var state *api.Snapshot
		if state, err = from.State(ctx, s.name()); err == nil {
			return state, nil
		}
	}
	if state, fileErr := stateFile(s.dir); fileErr == nil {
		return state, nil
	}
	return nil, err
}

func (s *Session) name() string { return filepath.Base(s.dir) }

// Snapshot implements api.Record.
func (s *Session) Snapshot(context.Context) (*api.Snapshot, error) { return s.state, nil }

// VerdictAt implements api.Record.
func (s *Session) VerdictAt(ctx context.Context, q api.VerdictQuery) (api.PastVerdict, error) {
	from, err := s.history.Open()
	if err != nil {
		return api.PastVerdict{}, err
	}
	v, err := from.VerdictAt(ctx, s.name(), q)
	if errors.Is(err, past.ErrNone) {
		return v, NoVerdict(q)
	}
	return v, err
}

// NoVerdict is the refusal of a query to which no verdict is known.
func NoVerdict(q api.VerdictQuery) error {
	if q.Turned != "" {
		return api.Refuse("the verdict has not turned %s in this session", q.Turned)
	}
	return api.Refuse("no verdict of that time is kept")
}

// units are the units that a query names, or all.
func (s *Session) units(q api.ResultQuery) (units []string) {
	for _, name := range q.Units {
		if group, is := s.state.Project.Groups[name]; is {
			units = append(units, group...)
		} else {
			units = append(units, name)
		}
	}
	if len(q.Units) == 0 {
		units = s.state.UnitNames()
	}
	return units
}

// Cases implements api.Record.
func (s *Session) Cases(ctx context.Context, q api.ResultQuery) (api.CasePage, error) {
	if s.results != nil && q.At.IsZero() {
		return s.results.Cases(s.units(q), q)
	}
	return s.history.Cases(ctx, s.units(q), s.atEnd(q))
}

// Findings implements api.Record.
func (s *Session) Findings(ctx context.Context, q api.ResultQuery) (api.FindingPage, error) {
	if s.results != nil && q.At.IsZero() {
		return s.results.Findings(s.units(q), q)
	}
	return s.history.Findings(ctx, s.units(q), s.atEnd(q))
}

// atEnd is a query with a time: that of the end of the session, if it has none.
func (s *Session) atEnd(q api.ResultQuery) api.ResultQuery {
	if q.At.IsZero() {
		q.At = s.state.At
	}
	return q
}

// Case implements api.Record.
func (s *Session) Case(ctx context.Context, unit string, name api.CaseName) (api.Case, error) {
	if s.results != nil {
		return s.results.Case(unit, name)
	}
	page, err := s.Cases(ctx, api.ResultQuery{Units: []string{unit}, Text: name.Name, Count: api.MaxLines})
	for _, c := range page.Cases {
		if c.Suite == name.Suite && c.Name == name.Name {
			return c, nil
		}
	}
	return api.Case{}, cmp.Or(err, api.Refuse("nothing is known of a test %s of %s", name.Name, unit))
}

// Changes implements api.Record. What changed since a unit ran well is only known while the project runs.
func (s *Session) Changes(ctx context.Context, q changes.Query) (changes.Changes, error) {
	if q.Unit != "" {
		return changes.Changes{}, api.Refuse("the session has ended; ask for the changes of a ripple")
	}
	from, err := s.history.Open()
	if err != nil {
		return changes.Changes{}, err
	}
	return tracked.Earlier(ctx, s.store, func(ctx context.Context, ripple int) ([]kept.Change, error) {
		return from.Changes(ctx, s.name(), ripple)
	}, q.Ripple)
}

// Samples implements api.Record.
func (s *Session) Samples(ctx context.Context, from int64) (api.SamplePage, error) {
	page, err := s.history.Samples(ctx, s.name(), from)
	if err == nil && from == 0 && len(page.Samples) == 0 {
		return samplesFile(s.dir)
	}
	return page, err
}
