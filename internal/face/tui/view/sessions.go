package view

import (
	"context"
	"slices"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/api/past"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/text/format"
)

// sessions are the earlier sessions that the axis of time reaches back to. It begins with none, and is extended by one
// when the user goes back further.
type sessions struct {
	all    []*earlierSession // newest first
	asking bool
	skips  *timeline.Skips // between them
	marks  map[string][]api.Mark
	saves  []api.Save
}

// earlierSession is a session that has ended.
type earlierSession struct {
	past.Session
	snap *api.Snapshot
}

// Begin is where the axis of time begins: the first session that is on it.
func (m *Model) Begin() time.Time {
	if n := len(m.sessions.all); n > 0 {
		return m.sessions.all[n-1].Began
	}
	return m.Live.Project.Since
}

// Skips are what the axis of time leaves out: the time between sessions. It is the same until the axis reaches further
// back.
func (m *Model) Skips() *timeline.Skips { return m.sessions.skips }

// sessionAt returns the earlier session that a time is in; nil: it is in the running one, or before all.
func (m *Model) sessionAt(at time.Time) *earlierSession {
	if at.IsZero() {
		return nil
	}
	for _, s := range m.sessions.all {
		if !at.Before(s.Began) && !at.After(s.Ended) {
			return s
		}
	}
	return nil
}

// Session is the name of the session that is shown; empty: the running one.
func (m *Model) Session() string {
	if s := m.sessionAt(m.At); s != nil {
		return s.Name
	}
	return ""
}

// Cursor is the time of the time cursor in words, with the date if it was on another day.
func (m *Model) Cursor() string {
	if m.At.YearDay() == m.Now.YearDay() && m.At.Year() == m.Now.Year() {
		return format.Clock(m.At)
	}
	return m.At.Format("2 Jan ") + format.Clock(m.At)
}

// Bounds are the beginning and the end of the session that is shown.
func (m *Model) Bounds() (began, ended time.Time) {
	if s := m.sessionAt(m.At); s != nil {
		return s.Began, s.Ended
	}
	return m.Live.Project.Since, m.Now
}

// After returns when the session after the one that is shown began; zero: there is none.
func (m *Model) After() time.Time {
	at := m.sessionAt(m.At)
	i := slices.Index(m.sessions.all, at)
	switch {
	case at == nil:
		return time.Time{}
	case i == 0:
		return m.Live.Project.Since
	}
	return m.sessions.all[i-1].Began
}

// Record returns what can be read of a session. It may block.
func (m *Model) Record(ctx context.Context, session string) (api.Record, error) {
	if session == "" {
		return m.Project, nil
	}
	return m.Project.Session(ctx, session)
}

// MarksOf is what a unit did in all sessions on the axis of time.
func (m *Model) MarksOf(u *api.Unit) []api.Mark {
	if live := m.Live.Unit(u.Name); live != nil {
		u = live
	} else if m.Session() != "" {
		return m.sessions.marks[u.Name]
	}
	if earlier := m.sessions.marks[u.Name]; len(earlier) > 0 {
		return slices.Concat(earlier, u.Marks)
	}
	return u.Marks
}

// Saves are those of all sessions on the axis of time, oldest first.
func (m *Model) Saves() []api.Save {
	if len(m.sessions.saves) == 0 {
		return m.Live.Saves
	}
	return slices.Concat(m.sessions.saves, m.Live.Saves)
}

// GoBack extends the axis of time by the session before all that are on it, and then calls a function with its end.
func (m *Model) GoBack(then func(end time.Time)) {
	if m.sessions.asking {
		return
	}
	m.sessions.asking = true
	before := m.Begin()
	m.Later(func(ctx context.Context) Then {
		s, err := m.sessionBefore(ctx, before)
		return func() {
			m.sessions.asking = false
			switch {
			case err != nil:
				m.ShowError(err)
			case s == nil:
				m.Said = "no earlier session is kept"
			default:
				m.sessions.add(s, before)
				then(s.Ended)
			}
		}
	})
}

// Reach extends the axis of time, if necessary, so that it has a time, and then calls a function.
func (m *Model) Reach(at time.Time, then func()) {
	if !at.Before(m.Begin()) {
		then()
		return
	}
	m.GoBack(func(time.Time) { m.Reach(at, then) })
}

// sessionBefore returns the last session that ended before a time; nil: there is none.
func (m *Model) sessionBefore(ctx context.Context, before time.Time) (*earlierSession, error) {
	h, err := m.Project.History(ctx, past.Query{What: past.Sessions, Until: before})
	if err != nil {
		return nil, err
	}
	for _, s := range h.Sessions {
		if !s.Kept || s.Ended.After(before) || s.Once {
			continue
		}
		record, err := m.Project.Session(ctx, s.Name)
		if err != nil {
			return nil, err
		}
		snap, err := record.Snapshot(ctx)
		return &earlierSession{s, snap}, err
	}
	return nil, nil
}

// add puts a session before all others; next is when the first of these began.
func (s *sessions) add(e *earlierSession, next time.Time) {
	s.all = append(s.all, e)
	skips := timeline.Skips{{From: e.Ended, To: next}}
	if s.skips != nil {
		skips = append(skips, *s.skips...)
	}
	s.skips = &skips
	marks := map[string][]api.Mark{}
	for _, u := range e.snap.Units {
		if len(u.Marks) > 0 {
			marks[u.Name] = append(slices.Clone(u.Marks), api.Mark{At: e.Ended, State: api.Idle})
		}
	}
	for unit, later := range s.marks {
		marks[unit] = append(marks[unit], later...)
	}
	s.marks = marks
	s.saves = append(slices.Clone(e.snap.Saves), s.saves...)
}
