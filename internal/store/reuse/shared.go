package reuse

import (
	"context"
	"time"

	"omnivigil/internal/plan"
	"omnivigil/internal/store/share"
	"omnivigil/internal/store/tree"
)

// Seek looks for the result in the team's share, unless the outputs of an earlier run on this machine are kept, and
// brings it here, so that Restore can use it. It blocks for 300 ms at most if the share does not answer, and otherwise
// at most as long as the task took where it ran. Problems are reported by the share.
func (a *Attempt) Seek(ctx context.Context) {
	r := a.results
	if r.share == nil || r.store == nil || a.Holds || a.unknown || a.IsKept() || len(a.unit.Outputs) == 0 {
		return
	}
	if a.private {
		r.share.Private(a.unit.Name)
		return
	}
	began := time.Now()
	found, by, is := r.share.Find(ctx, expected(a.plan, a.unit, a.needed))
	if !is || found.Took < time.Since(began) || r.share.Fetch(ctx, found, found.Took) != nil {
		return // its contents need at least as long as the answer
	}
	if e, err := r.adopt(a.unit, found, by); err == nil {
		a.earlier = e
	}
}

// expected is the result of a unit with a key.
func expected(p *plan.Plan, u *plan.Unit, key string) share.Expected {
	return share.Expected{Unit: u.Name, Key: key, Covers: func(t tree.Tree) error { return covers(p, u, t) }}
}

// adopt makes a result whose contents are in the store one of this machine.
func (r *Results) adopt(u *plan.Unit, found share.Result, by share.Key) (*entry, error) {
	t, err := r.add(found.Tree)
	if err != nil {
		return nil, err
	}
	e := &entry{
		Outputs: found.Outputs, At: found.At, Took: found.Took, Told: found.Told, Tree: t, Lines: found.Lines,
		By: by.Name, Signer: share.KeyID(by.Public),
	}
	return e, r.save(u, found.Key, e)
}

// mayUse reports whether a result comes from this machine or from a key that the user still trusts.
func (r *Results) mayUse(e *entry) bool {
	return e.Signer == "" || r.share != nil && r.share.Trusted.Has(e.Signer)
}

// send sends the result to the share in the background.
func (a *Attempt) send(outputs tree.Tree) {
	if a.results.share == nil || a.private {
		return
	}
	a.results.share.Send(share.Result{
		Unit: a.unit.Name, Key: a.needed, Outputs: a.ended.Outputs, At: a.ended.At, Took: a.ended.Took,
		Tree: outputs, Told: a.ended.Told, Lines: a.ended.Lines,
	})
}

const (
	// maxAhead is how many results of a unit are fetched before they are needed: the newest ones.
	maxAhead = 3
	// maxAheadSize is the maximum size of such a result, in bytes.
	maxAheadSize = 64 << 20
	// aheadTime is how long the list, or such a result, may take to arrive.
	aheadTime = 30 * time.Second
)

// Prefetch brings the newest results of the team here, so that a save need not wait for the share: it uses only what is
// here. It blocks while it does so, and ends early if the share does not answer.
func (r *Results) Prefetch(ctx context.Context, p *plan.Plan) {
	if r.share == nil || r.store == nil {
		return
	}
	listing, stop := context.WithTimeout(ctx, aheadTime)
	recent, err := r.share.Recent(listing)
	if stop(); err != nil {
		return // a start that asks for a result reports it
	}
	ahead := map[string]int{}
	for _, l := range recent {
		u := p.Unit(l.Unit)
		if ctx.Err() != nil || u == nil || !u.Reuse || len(u.Outputs) == 0 || ahead[u.Name] == maxAhead {
			continue
		}
		ahead[u.Name]++
		if e := r.load(u, l.Key); e != nil && e.Tree != nil && r.store.Has(*e.Tree) {
			continue
		}
		found, by, is := r.share.Find(ctx, expected(p, u, l.Key))
		if !is {
			continue
		}
		if _, size := r.share.Missing(found); size <= maxAheadSize && r.share.Fetch(ctx, found, aheadTime) == nil {
			r.adopt(u, found, by) // otherwise the task runs
		}
	}
}
