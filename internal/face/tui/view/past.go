package view

import (
	"context"
	"time"

	"omnivigil/internal/api"
)

// recalled is what is known of the project at the time cursor.
type recalled struct {
	of      *api.Snapshot // Snap was made of it
	at      time.Time     // and for this time
	verdict api.PastVerdict
	unknown bool      // no verdict of that time is kept
	asked   time.Time // the time for which the verdict was requested
}

// Recall sets the project as it is shown to the newest state or, if the time cursor is in the past, to what it was
// then, and requests the verdict of that time.
func (m *Model) Recall() {
	r, of := &m.recalled, m.Live
	earlier := m.sessionAt(m.At)
	if earlier != nil {
		of = earlier.snap
	}
	switch {
	case m.At.IsZero():
		m.Snap, r.of, r.asked = m.Live, nil, time.Time{}
	case r.of != of || !r.at.Equal(m.At):
		r.of, r.at = of, m.At
		m.Snap = of.AsOf(m.At, r.verdict.Verdict)
	}
	if m.At.IsZero() || m.At.Equal(r.asked) {
		return
	}
	at, session := m.At, m.Session()
	r.asked = at
	m.Later(func(ctx context.Context) Then {
		var v api.PastVerdict
		from, err := m.Record(ctx, session)
		if err == nil {
			v, err = from.VerdictAt(ctx, api.VerdictQuery{At: at})
		}
		return func() {
			if m.At.Equal(at) {
				r.verdict, r.unknown, r.of = v, err != nil, nil
				m.Recall()
			}
		}
	})
}

// IsPast reports whether the time cursor is in the past, so that what is shown is of that time.
func (m *Model) IsPast() bool { return !m.At.IsZero() }

// PastKnown reports whether the verdict at the time cursor is known.
func (m *Model) PastKnown() bool { return !m.recalled.unknown }
