package history

import (
	"context"
	"errors"
	"sync"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/session/outcomes"
	"omnivigil/internal/store/history/database"
	"omnivigil/internal/store/history/reader"
	"omnivigil/internal/text/escape"
)

// Reading is the history as faces read it. It is opened when it is first read. Its methods may be called from any
// goroutine.
type Reading struct {
	Dir string // empty: there is none

	mu   sync.Mutex
	from *reader.Reader // nil: not opened yet
}

// History returns a part of the history. A *api.Refusal tells that there is none.
func (r *Reading) History(ctx context.Context, q past.Query) (past.History, error) {
	from, err := r.Open()
	if err != nil {
		return past.History{}, err
	}
	return from.History(ctx, q)
}

// Open returns the history, which Close closes. A *api.Refusal tells that there is none.
func (r *Reading) Open() (*reader.Reader, error) {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.from != nil {
		return r.from, nil
	}
	if r.Dir == "" {
		return nil, api.Refuse("no history is kept of this project")
	}
	from, err := reader.Read(r.Dir)
	if errors.Is(err, reader.ErrNone) || errors.Is(err, database.ErrNewer) {
		return nil, api.Refuse("%v", err)
	}
	r.from = from
	return from, err
}

// Samples returns a page of the samples of a session. It is empty if there is no history.
func (r *Reading) Samples(ctx context.Context, session string, from int64) (api.SamplePage, error) {
	reader, err := r.Open()
	if refusal := (*api.Refusal)(nil); errors.As(err, &refusal) {
		return api.SamplePage{Samples: []api.Sample{}, Next: from}, nil
	}
	if err != nil {
		return api.SamplePage{}, err
	}
	return reader.Samples(ctx, session, from)
}

// Cases returns the results of tests at a time.
func (r *Reading) Cases(ctx context.Context, units []string, q api.ResultQuery) (api.CasePage, error) {
	reader, err := r.Open()
	if err != nil {
		return api.CasePage{}, err
	}
	all, err := reader.CasesAt(ctx, q.At)
	if err != nil {
		return api.CasePage{}, err
	}
	of := map[string][]api.Case{}
	for _, c := range all {
		c.Suite, c.Name = escape.Lines(c.Suite), escape.Lines(c.Name)
		of[c.Unit] = append(of[c.Unit], c)
	}
	return outcomes.Cases(units, q, func(unit string) []api.Case { return of[unit] })
}

// Findings returns the findings at a time.
func (r *Reading) Findings(ctx context.Context, units []string, q api.ResultQuery) (api.FindingPage, error) {
	reader, err := r.Open()
	if err != nil {
		return api.FindingPage{}, err
	}
	all, err := reader.FindingsAt(ctx, q.At)
	if err != nil {
		return api.FindingPage{}, err
	}
	of := map[string][]api.Finding{}
	for _, f := range all {
		f.File, f.Rule, f.Message = escape.Lines(f.File), escape.Lines(f.Rule), escape.Lines(f.Message)
		of[f.Unit] = append(of[f.Unit], f)
	}
	return outcomes.Findings(units, q, func(unit string) []api.Finding { return of[unit] })
}

// Close closes it.
func (r *Reading) Close() {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.from != nil {
		r.from.Close()
	}
}

// Earlier returns the last failure of a unit before it last ran well, and what fixed that; nil: none is known.
func (r *Reading) Earlier(unit string) *api.Earlier {
	const most = 1000
	h, err := r.History(context.Background(), past.Query{What: past.Runs, Units: []string{unit}, Count: most})
	if err != nil {
		return nil
	}
	var fix *past.Run // the good run that was looked at last
	for i := range h.Runs {
		switch r := &h.Runs[i]; {
		case !api.State(r.Outcome).Broken() && r.Took > 0:
			fix = r
		case api.State(r.Outcome).Broken() && fix != nil:
			how := r.Outcome
			if r.Exit != "" {
				how += ": " + r.Exit
			}
			return &api.Earlier{
				At: r.Ended, Run: r.Number, How: how, FixedAt: fix.Began, Because: fix.Because, Revision: fix.Revision,
			}
		}
	}
	return nil
}
