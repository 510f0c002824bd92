package client

import (
	"context"
	"path/filepath"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/output/reader"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/session/outcomes"
	"omnivigil/internal/session/run"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/text/escape"
)

// readable is what can be read of a running project, and of a session that has ended.
type readable interface {
	api.Log
	Snapshot(ctx context.Context) (*api.Snapshot, error)
	Cases(ctx context.Context, q api.ResultQuery) (api.CasePage, error)
	Case(ctx context.Context, unit string, name api.CaseName) (api.Case, error)
	Findings(ctx context.Context, q api.ResultQuery) (api.FindingPage, error)
}

// reading is asking for commands that can also read a session that has ended.
type reading struct {
	asking
	session string // empty: the running project
}

func (r *reading) flag(c *cobra.Command) *cobra.Command {
	c.Flags().StringVar(&r.session, "session", "",
		"read an earlier session instead of the running project: last, a number from 1 (the newest) or a name")
	return r.asking.flag(c)
}

// read calls a function with the running project, or with the session that is named.
func (r *reading) read(do func(ctx context.Context, p readable) error) error {
	if r.session == "" {
		return r.on(func(ctx context.Context, p *apiclient.Client) error { return do(ctx, p) })
	}
	e, err := endedSession(r.of, r.session)
	if err != nil {
		return err
	}
	return do(context.Background(), e)
}

// ended is a session that has ended: its log, and the state that it was left in, which is a minute old if it was
// killed.
type ended struct {
	api.Log
	snap    *api.Snapshot
	newest  bool // only the newest session has its results in full
	results *outcomes.Results
}

func endedSession(of Settings, name string) (*ended, error) {
	file, err := of.Find()
	if err != nil {
		return nil, err
	}
	if file, err = filepath.Abs(file); err != nil {
		return nil, exit.With(exit.Failed, err)
	}
	found := reader.Sessions(paths.Logs(file))
	dir, err := SessionNamed(found, name)
	if err != nil {
		return nil, err
	}
	snap, err := api.KeptSnapshot(dir)
	if err != nil {
		return nil, exit.Refuse("omnivigil: the session in %s cannot be read: %v", dir, err)
	}
	trackers := run.NewTrackers(paths.Results(file), filepath.Dir(file), true)
	if p, err := settings.Read(file); err == nil {
		trackers.Adopt(p)
	}
	return &ended{
		Log: reader.Past(dir), snap: snap, newest: dir == found[0], results: outcomes.New(trackers, escape.Lines),
	}, nil
}

func (e *ended) Snapshot(context.Context) (*api.Snapshot, error) { return e.snap, nil }

// units are the units that a query names, or all.
func (e *ended) units(q api.ResultQuery) ([]string, error) {
	if !e.newest {
		return nil, exit.Refuse("omnivigil: only the newest session has its tests and findings in full; " +
			"omnivigil history --tests has those of all")
	}
	var units []string
	for _, name := range q.Units {
		if group, is := e.snap.Project.Groups[name]; is {
			units = append(units, group...)
		} else {
			units = append(units, name)
		}
	}
	if len(units) == 0 {
		units = e.snap.UnitNames()
	}
	return units, nil
}

func (e *ended) Cases(_ context.Context, q api.ResultQuery) (api.CasePage, error) {
	units, err := e.units(q)
	if err != nil {
		return api.CasePage{}, err
	}
	return e.results.Cases(units, q)
}

func (e *ended) Case(_ context.Context, unit string, name api.CaseName) (api.Case, error) {
	return e.results.Case(unit, name)
}

func (e *ended) Findings(_ context.Context, q api.ResultQuery) (api.FindingPage, error) {
	units, err := e.units(q)
	if err != nil {
		return api.FindingPage{}, err
	}
	return e.results.Findings(units, q)
}
