package view

import (
	"context"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
)

// samples is what units have used over time. Views that show it ask for newer samples.
type samples struct {
	Series  timeline.Series
	session string // whose samples they are
	next    int64
	asking  bool
	askedAt time.Time
}

// samplePause is how often newer samples are fetched.
const samplePause = 2 * time.Second

// AreKnown reports whether samples have been fetched, or there are none.
func (s *samples) AreKnown() bool { return !s.askedAt.IsZero() }

func (s *samples) Ask(m *Model) {
	if session := m.Session(); s.session != session {
		*s = samples{session: session}
	}
	if s.asking || m.Now.Sub(s.askedAt) < samplePause {
		return
	}
	s.asking = true
	from, session := s.next, s.session
	m.Later(func(ctx context.Context) Then {
		var page api.SamplePage
		of, err := m.Record(ctx, session)
		if err == nil {
			page, err = of.Samples(ctx, from)
		}
		return func() {
			if s.session != session {
				return
			}
			s.asking = false
			if err != nil || len(page.Samples) == 0 { // otherwise there may be more, which are fetched at once
				s.askedAt = m.Now
			}
			if err != nil {
				m.ShowError(err)
				return
			}
			s.Series.Add(page.Samples)
			s.next = page.Next
		}
	})
}
