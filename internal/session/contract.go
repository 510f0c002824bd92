package session

import (
	"context"
	"net/netip"
	"path/filepath"
	"sync"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/engine"
	"omnivigil/internal/plan"
	"omnivigil/internal/session/ended"
	"omnivigil/internal/session/snapshot"
)

var _ api.Project = (*Session)(nil)

// showing is what faces see of the session, and which faces are attached.
type showing struct {
	mu         sync.Mutex
	about      api.About
	builder    snapshot.Builder
	newest     *api.Snapshot // the last one that was made
	of         *engine.Snapshot
	number     int64
	faces      []*api.Face
	leave      time.Duration // of the face that has left last
	departures int           // of faces so far

	background bool
	ended      bool
	trouble    bool // see api.Status
}

// Snapshot implements api.Project.
func (s *Session) Snapshot(context.Context) (*api.Snapshot, error) { return s.shown(), nil }

// VerdictAt implements api.Project.
func (s *Session) VerdictAt(_ context.Context, q api.VerdictQuery) (api.PastVerdict, error) {
	if v, known := s.past.Find(q); known {
		return v, nil
	}
	return api.PastVerdict{}, ended.NoVerdict(q)
}

// Session implements api.Project.
func (s *Session) Session(ctx context.Context, name string) (api.Record, error) {
	if name == s.showing.about.Session {
		return s, nil
	}
	return s.earlier.Open(ctx, &s.reading, s.store, filepath.Dir(s.showing.about.Logs), name)
}

// shown returns the current state of the project: the last snapshot, if nothing has changed since.
func (s *Session) shown() *api.Snapshot {
	snap, _ := s.shownAndOf()
	return snap
}

// shownAndOf returns the current state of the project, as faces see it and as the engine does.
func (s *Session) shownAndOf() (*api.Snapshot, *engine.Snapshot) {
	sh := &s.showing
	sh.mu.Lock()
	defer sh.mu.Unlock()
	now, p := s.snapshot.Load(), s.shownPlan.Load()
	next := sh.newest
	if next == nil || sh.of != now || sh.builder.Outdated(p) {
		next = sh.builder.Build(s.clean, now, p)
		sh.of = now
	} else {
		copied := *next
		next = &copied
	}
	next.Project = sh.about
	next.Project.Name, next.Project.Groups = p.Name, groups(p)
	next.Uses, next.Asks = uses(s), s.terminals.Asking()
	next.Faces = []api.Face{}
	for _, f := range sh.faces {
		if f.Kind != "" {
			next.Faces = append(next.Faces, *f)
		}
	}
	next.Background, next.Ended, next.Trouble, next.Lines = sh.background, sh.ended, sh.trouble, s.book.Published()
	next.LogProblem = ""
	if err := s.book.Err(); err != nil {
		next.LogProblem = s.clean(err.Error())
	}
	next.Number = sh.number + 1
	if sh.newest == nil || next.Follows(sh.newest) {
		sh.number++
		sh.newest = next
		sh.builder.Show(next)
	}
	return sh.newest, sh.of
}

func groups(p *plan.Plan) map[string][]string {
	if len(p.Groups) == 0 {
		return nil
	}
	out := make(map[string][]string, len(p.Groups))
	for _, g := range p.Groups {
		out[g.Name] = g.Units
	}
	return out
}

func uses(s *Session) map[string]api.Use {
	out := map[string]api.Use{}
	if s.meter == nil {
		return out
	}
	for unit, u := range s.meter.Uses() {
		out[unit] = api.Use{CPU: u.CPU, Memory: u.Memory, Addresses: u.Endpoints}
	}
	for unit, server := range s.pages.All() {
		t := server.Traffic()
		at := []netip.AddrPort{server.Address()}
		out[unit] = api.Use{Addresses: at, Requests: t.PerSecond, Failed: t.Failed, Pages: len(server.Browsers())}
	}
	return out
}

// Screen implements api.Project.
func (s *Session) Screen(_ context.Context, unit string) (api.Screen, error) {
	return s.terminals.Screen(unit)
}

// FollowScreen implements api.Project.
func (s *Session) FollowScreen(ctx context.Context, q api.ScreenQuery, show func(api.Screen) error) error {
	return s.terminals.Follow(ctx, q, show)
}

// Input implements api.Project.
func (s *Session) Input(_ context.Context, in api.Input) error { return s.terminals.Input(in) }
