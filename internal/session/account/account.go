// Package account keeps the newest facts of a session for subscribers: whoever has heard the fact with a number asks
// for those after it.
package account

import (
	"sync"

	"omnivigil/internal/api"
)

// keptFacts is how many facts are kept for subscribers.
const keptFacts = 5_000

// Account is the newest facts, with their numbers. Its methods may be called from any goroutine.
type Account struct {
	mu    sync.Mutex
	facts []api.Fact // oldest first; their numbers have no gaps
	last  int64
	more  chan struct{} // closed when there is another one
	over  bool          // there will be no more
}

// New returns an account without facts.
func New() *Account { return &Account{more: make(chan struct{})} }

// Add adds a fact and sets its number.
func (a *Account) Add(f api.Fact) {
	a.mu.Lock()
	defer a.mu.Unlock()
	a.last++
	f.ID = a.last
	if a.facts = append(a.facts, f); len(a.facts) > 2*keptFacts {
		a.facts = append([]api.Fact(nil), a.facts[keptFacts:]...)
	}
	a.over = f.Kind == api.FactEnded
	close(a.more)
	a.more = make(chan struct{})
}

// After returns the facts after the one with a number, and a channel that is closed when there are more; over: there
// will be none. ErrGap: some are no longer kept.
func (a *Account) After(number int64) (facts []api.Fact, more <-chan struct{}, over bool, err error) {
	a.mu.Lock()
	defer a.mu.Unlock()
	oldest := a.last - int64(len(a.facts)) + 1
	if number+1 < oldest || number > a.last {
		return nil, nil, false, api.ErrGap
	}
	return a.facts[number+1-oldest:], a.more, a.over, nil
}
