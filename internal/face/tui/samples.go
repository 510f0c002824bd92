package tui

import (
	"context"
	"time"

	"omnivigil/internal/face/timeline"
)

// samples is what units used over time. Views that show it ask for what has come since.
type samples struct {
	series  timeline.Series
	next    int64
	asking  bool
	askedAt time.Time
}

// samplePause is how often newer samples are asked for.
const samplePause = 2 * time.Second

func (s *samples) ask(m *model) {
	if s.asking || m.now.Sub(s.askedAt) < samplePause {
		return
	}
	s.asking = true
	from := s.next
	m.later(func(ctx context.Context) then {
		page, err := m.project.Samples(ctx, from)
		return func() {
			s.asking = false
			if err != nil || len(page.Samples) == 0 { // else there may be more, which are wanted at once
				s.askedAt = m.now
			}
			if err != nil {
				m.asked(err)
				return
			}
			s.series.Add(page.Samples)
			s.next = page.Next
		}
	})
}
