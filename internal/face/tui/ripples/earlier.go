package ripples

import (
	"context"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/face/tui/view"
)

// earlier are the ripples of earlier sessions, below those of this one.
type earlier struct {
	all     []*api.Ripple          // newest first
	session map[*api.Ripple]string // theirs
	known   map[*api.Ripple]bool   // whose runs were fetched
	at      int                    // the number of the selected one, from 1; 0: one of this session is
	asking  bool
	done    bool // there are no more
}

// earlierAtOnce is how many are fetched at once.
const earlierAtOnce = 100

// selected returns the selected ripple; nil: it is one of this session.
func (e *earlier) selected() *api.Ripple {
	if e.at == 0 {
		return nil
	}
	return e.all[e.at-1]
}

// ask fetches ripples before those that are known when the last ones come into view, and the runs of the selected one.
func (e *earlier) ask(m *view.Model, below int) {
	if r := e.selected(); r != nil && !e.known[r] {
		e.known[r] = true
		e.askRuns(m, r)
	}
	if e.asking || e.done || below > 5 {
		return
	}
	e.asking = true
	q := past.Query{What: past.Ripples, Until: m.Live.Project.Since, Count: earlierAtOnce}
	if n := len(e.all); n > 0 {
		q.Until = e.all[n-1].Since
	}
	m.Later(func(ctx context.Context) view.Then {
		h, err := m.Project.History(ctx, q)
		return func() {
			e.asking, e.done = false, err != nil || !h.More
			for _, r := range h.Ripples {
				was := rippleOf(r)
				e.all = append(e.all, was)
				e.session[was] = r.Session
			}
		}
	})
}

// rippleOf is a ripple of the history; its runs are only named.
func rippleOf(r past.Ripple) *api.Ripple {
	was := &api.Ripple{
		ID: r.Number, Title: r.Title, Since: r.Since, RestAt: r.Since.Add(r.Took.Duration()), Outcome: api.Outcome(r.Outcome),
		Detail: r.Detail, Paths: r.Paths, Cause: api.Cause{Kind: r.Cause},
	}
	for _, unit := range r.Units {
		was.Runs = append(was.Runs, &api.RunRef{Unit: unit})
	}
	return was
}

// within returns the spans that began before a ripple was at rest: a service has others until it ends.
func within(spans []api.Span, rest time.Time) []api.Span {
	return slices.DeleteFunc(spans, func(s api.Span) bool { return s.From.After(rest) })
}

// askRuns fetches the runs of a ripple.
func (e *earlier) askRuns(m *view.Model, r *api.Ripple) {
	q := past.Query{What: past.Runs, Session: e.session[r], Ripple: r.ID, Count: past.MaxCount}
	m.Later(func(ctx context.Context) view.Then {
		h, err := m.Project.History(ctx, q)
		if err != nil || len(h.Runs) == 0 {
			return nil
		}
		return func() {
			r.Runs = nil
			for i := len(h.Runs) - 1; i >= 0; i-- { // oldest first
				run := h.Runs[i]
				ref := &api.RunRef{
					Unit: run.Unit, Number: run.Number, Because: run.Because, Took: run.Took,
					Spans: within(run.Spans, r.RestAt), Failed: api.State(run.Outcome).Broken(),
				}
				if ref.Took == 0 {
					ref.Took = api.Seconds(run.Ended.Sub(run.Began))
				}
				r.Runs = append(r.Runs, ref)
			}
		}
	})
}
