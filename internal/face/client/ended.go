package client

import (
	"cmp"
	"context"
	"errors"
	"path/filepath"

	"github.com/spf13/cobra"

	"omnivigil/internal/api"
	apiclient "omnivigil/internal/api/client"
	"omnivigil/internal/api/exit"
	"omnivigil/internal/output/reader"
	"omnivigil/internal/plan/settings"
	"omnivigil/internal/session/ended"
	"omnivigil/internal/session/history"
	"omnivigil/internal/session/outcomes"
	"omnivigil/internal/session/run"
	"omnivigil/internal/store/contents"
	"omnivigil/internal/store/paths"
	"omnivigil/internal/text/escape"
)

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
func (r *reading) read(do func(ctx context.Context, p api.Record) error) error {
	if r.session == "" {
		return r.on(func(ctx context.Context, p *apiclient.Client) error { return do(ctx, p) })
	}
	if there, err := r.of.Remote(); err != nil || there != nil {
		return cmp.Or(err, errElsewhere)
	}
	ctx := context.Background()
	e, err := EndedSession(ctx, r.of, r.session)
	if errors.Is(err, errRunning) {
		return r.on(func(ctx context.Context, p *apiclient.Client) error { return do(ctx, p) })
	}
	if err != nil {
		return err
	}
	defer e.Close()
	return do(ctx, e)
}

// Ended is a session that has ended.
type Ended struct {
	api.Record
	from *history.Reading
}

// Close closes the history that it is read from.
func (e *Ended) Close() { e.from.Close() }

// errElsewhere reports that an earlier session of another machine was asked for.
var errElsewhere = exit.Refuse(
	"omnivigil: earlier sessions are read on their own machine: leave out --at, or --session")

// errRunning reports that a session that is named has not ended.
var errRunning = exit.Refuse("omnivigil: this session is running: leave out --session")

// running is the name of the session that is running; empty: none is.
func running(ctx context.Context, file string) string {
	p, err := Connect(ctx, file)
	if err != nil {
		return ""
	}
	defer p.Close()
	snap, err := p.Snapshot(ctx)
	if err != nil {
		return ""
	}
	return snap.Project.Session
}

// EndedSession returns a session that has ended: by its number, of which 1 is the newest, by its name, or Last.
func EndedSession(ctx context.Context, of Settings, name string) (*Ended, error) {
	file, err := of.FindRunning()
	if err != nil {
		return nil, err
	}
	if file, err = filepath.Abs(file); err != nil {
		return nil, exit.With(exit.Failed, err)
	}
	found := reader.Sessions(paths.Logs(file))
	if len(found) == 0 {
		return nil, exit.Refuse("omnivigil: the project of %s is not running and has no log.", file)
	}
	dir, err := SessionNamed(found, name)
	if err != nil {
		return nil, err
	}
	if running(ctx, file) == filepath.Base(dir) {
		return nil, errRunning
	}
	var results *outcomes.Results // only the newest session has them in full
	if dir == found[0] {
		trackers := run.NewTrackers(paths.Results(file), filepath.Dir(file), true)
		if p, err := settings.Read(file); err == nil {
			trackers.Adopt(p)
		}
		results = outcomes.New(trackers, escape.Lines)
	}
	from := &history.Reading{Dir: paths.History(file)}
	s, err := ended.Open(ctx, from, contents.In(paths.Contents(), contents.Limits{}), dir, results)
	if err != nil {
		from.Close()
		return nil, exit.Refuse("omnivigil: %v", err)
	}
	return &Ended{s, from}, nil
}
