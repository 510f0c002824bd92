// Package sharing is what a session does with the results of a team: it fetches the newest ones in advance, reports
// what goes wrong, and sends what is left at the end. Start reading at Sharing.
package sharing

import (
	"context"
	"time"

	"omnivigil/internal/output/logbook"
	"omnivigil/internal/plan"
	"omnivigil/internal/store/reuse"
	"omnivigil/internal/store/share"
	"omnivigil/internal/text/format"
)

// Host is what sharing needs of its session.
type Host interface {
	Note(e logbook.Entry, text string)
	Clean(text string) string // makes text safe to show
	Plan() *plan.Plan
	Stopped() <-chan struct{} // closed when the session is over
	Deserted() bool           // no face is attached that would wait for the end
}

// Sharing is the share of a session.
type Sharing struct {
	Host
	Share   *share.Share // nil: there is none
	Results *reuse.Results
	Once    bool // the session runs tasks once, for example to fill the share
}

const (
	// prefetchAfter is how long after the start the newest results of the team are fetched, so that this does not
	// delay the start, and prefetchEvery is how often then.
	prefetchAfter, prefetchEvery = 5 * time.Second, 5 * time.Minute
	// sendRest is how long an ending session sends what is left, and sendRestOnce is the same of one that runs once.
	sendRest, sendRestOnce = 5 * time.Second, 10 * time.Minute
)

// Begin uses the share from now on. It does not block.
func (s *Sharing) Begin() {
	if s.Share == nil {
		return
	}
	s.Share.Report = func(problem string) { s.Note(logbook.Entry{Tone: logbook.Stale}, s.Clean(problem)) }
	s.Results.Share(s.Share)
	if !s.Once {
		go s.prefetch()
	}
}

// prefetch fetches the newest results of the team from time to time: a save uses only what is here.
func (s *Sharing) prefetch() {
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	timer := time.NewTimer(prefetchAfter)
	defer timer.Stop()
	for {
		select {
		case <-timer.C:
		case <-s.Stopped():
			return
		}
		fetched := make(chan struct{})
		go func() {
			defer close(fetched)
			s.Results.Prefetch(ctx, s.Plan())
		}()
		select {
		case <-fetched:
		case <-s.Stopped():
			stop()
			<-fetched
			return
		}
		timer.Reset(prefetchEvery)
	}
}

// End sends what is left, while there is time, and reports what was not sent. It blocks that long.
func (s *Sharing) End() {
	if s.Share == nil {
		return
	}
	limit := sendRest
	if s.Once {
		limit = sendRestOnce
	}
	ctx, stop := context.WithTimeout(context.Background(), limit)
	defer stop()
	if n := s.Share.Unsent(); n > 0 {
		s.Note(logbook.Entry{}, "sending "+format.Count(n, "result")+" to the share")
		go s.stopWhenDeserted(ctx, stop)
	}
	s.Share.Close(ctx)
}

// stopWhenDeserted stops something when no face is attached any more that would wait for it.
func (s *Sharing) stopWhenDeserted(ctx context.Context, stop func()) {
	tick := time.NewTicker(time.Second)
	defer tick.Stop()
	for {
		select {
		case <-tick.C:
		case <-ctx.Done():
			return
		}
		if s.Deserted() {
			stop()
		}
	}
}

// Kept returns an edited plan with the share of the one before, and tells if that differs: consent to another share is
// asked for at the next start.
func Kept(before, now *plan.Plan, tell func(string)) *plan.Plan {
	if now.Share == before.Share {
		return now
	}
	if now.Share.URL != "" {
		tell("the share in the settings has changed: it is used after the next start, which asks for consent")
	}
	kept := *now
	kept.Share = before.Share
	return &kept
}
