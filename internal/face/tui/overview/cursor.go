package overview

import (
	"context"
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/api"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"
)

// The time cursor connects lanes and stream: the stream shows what was written up to that time, and scrolling the
// stream moves the cursor.

func IsAtNow(m *view.Model) bool {
	shown := VisibleOutput(m)
	return m.At.IsZero() && (shown == nil || shown.Following()) &&
		!slices.ContainsFunc(Of(m).Streams, func(s *stream.Stream) bool { return !s.Following() })
}

func BackToNow(m *view.Model) {
	m.At = time.Time{}
	for _, s := range Of(m).Streams {
		s.Session = ""
		s.ToNow()
	}
	if s := VisibleOutput(m); s != nil {
		s.ToNow()
	}
}

// GoTo moves the cursor to a time, also in an earlier session; a later time than now is now. A time between two
// sessions is the end of the first.
func GoTo(m *view.Model, at time.Time) {
	if !at.Before(m.Now) {
		BackToNow(m)
		return
	}
	m.Reach(at, func() { goTo(m, at) })
}

// goTo is GoTo for a time that is on the axis.
func goTo(m *view.Model, at time.Time) {
	m.At = m.Skips().Leave(at)
	for _, s := range Of(m).Streams {
		s.Session = m.Session()
		s.GoTo(m.At)
	}
}

// goBack moves to the end of the session before all that are on the axis of time.
func goBack(m *view.Model) { m.GoBack(func(end time.Time) { GoTo(m, end) }) }

// beyond continues the stream with the session before or after it.
var beyond = stream.Beyond{
	First: func(m *view.Model) {
		if began, _ := m.Bounds(); began.After(m.Begin()) {
			GoTo(m, began.Add(-time.Millisecond))
			return
		}
		goBack(m)
	},
	Last: func(m *view.Model) {
		if next := m.After(); !next.IsZero() {
			GoTo(m, next)
			return
		}
		BackToNow(m)
	},
}

// moveTime moves by whole columns, before the first session to the one before it.
func moveTime(m *view.Model, by int) {
	a := Of(m).Lanes.Axis(m)
	to := a.Time(a.At(m.ShownTime()) + by).Add(a.Column - 1)
	if by < 0 && to.Before(m.Begin()) {
		goBack(m)
		return
	}
	GoTo(m, to)
}

// moveSave moves to the next save or, by -1, to the previous one.
func moveSave(m *view.Model, by int) {
	saves, at := m.Saves(), m.ShownTime()
	if by < 0 {
		for i := len(saves) - 1; i >= 0; i-- {
			if saves[i].At.Before(at) {
				GoTo(m, saves[i].At)
				return
			}
		}
		m.GoBack(func(end time.Time) {
			GoTo(m, end)
			moveSave(m, by)
		})
		return
	}
	for _, s := range saves {
		if s.At.After(at) {
			GoTo(m, s.At)
			return
		}
	}
	BackToNow(m)
}

// moveTurn moves to the last time before the shown one at which the verdict turned bad or good.
func moveTurn(m *view.Model, to api.Turn) {
	before, session := m.ShownTime().Add(-1), m.Session()
	m.Later(func(ctx context.Context) view.Then {
		var v api.PastVerdict
		from, err := m.Record(ctx, session)
		if err == nil {
			v, err = from.VerdictAt(ctx, api.VerdictQuery{At: before, Turned: to})
		}
		return func() {
			if err != nil {
				m.Said = err.Error()
				if m.IsPast() {
					m.Said = "the verdict did not turn " + string(to) + " earlier in this session"
				}
				return
			}
			GoTo(m, v.At)
		}
	})
}

func zoom(m *view.Model, by int) {
	m.Span = max(0, min(lanes.SpanIndex(m)+by, len(timeline.Spans)-1))
}

// HandleMouse selects a lane, drags the time cursor, scrolls a stream.
func HandleMouse(m *view.Model, msg tea.MouseMsg) {
	at := msg.Mouse()
	switch msg.(type) {
	case tea.MouseWheelMsg:
		by := 3
		if at.Button == tea.MouseWheelUp {
			by = -3
		}
		which, _ := Of(m).place(m, at.X, at.Y)
		Of(m).Streams[which].Scroll(m, by)
	case tea.MouseClickMsg:
		switch {
		case at.Button != tea.MouseLeft:
		case at.Y >= Of(m).StreamTop:
			clickStream(m, at)
		case at.Y == Of(m).Lanes.Top-1:
			_, x := Of(m).Lanes.At(m, at.X, at.Y)
			clickSave(m, x)
		default:
			clickLane(m, at)
			if _, x := Of(m).Lanes.At(m, at.X, at.Y); onAddress(m, x) && len(m.Addresses()) > 0 {
				m.Browse()
			}
		}
	case tea.MouseMotionMsg:
		if at.Button == tea.MouseLeft && at.Y < Of(m).StreamTop {
			clickLane(m, at)
		}
	}
}

// clickStream gives the keys to the stream that was clicked, and points at the line.
func clickStream(m *view.Model, at tea.Mouse) {
	Of(m).focus, _ = Of(m).place(m, at.X, at.Y)
	if l, ok := Of(m).lineAt(m, at.X, at.Y); ok && m.IsOpen("overview") {
		pick(m)
		Focused(m).PointAt(l.Number)
	}
}

// clickLane selects the unit in a row and the time in a column.
func clickLane(m *view.Model, at tea.Mouse) {
	u, x := Of(m).Lanes.At(m, at.X, at.Y)
	if u != nil {
		m.Selected = u.Name
	}
	ClickTime(m, Of(m).Lanes.Columns(m), Of(m).Lanes.Axis(m), x)
}

// onAddress reports whether lanes show addresses in column x.
func onAddress(m *view.Model, x int) bool {
	c := Of(m).Lanes.Columns(m)
	from := c.Left() + c.Lane + c.Note
	return c.Endpoint > 0 && x > from && x <= from+c.Endpoint
}

// clickSave moves to the save whose tick or number is in column x.
func clickSave(m *view.Model, x int) {
	a, left := Of(m).Lanes.Axis(m), Of(m).Lanes.Columns(m).Left()
	for _, tick := range timeline.Saves(m.Saves(), a) {
		if from := left + tick.Column; x >= from && x <= from+len(tick.Number) {
			GoTo(m, tick.At)
		}
	}
}

// ClickTime moves the time cursor to column x of lanes with these columns and axis.
func ClickTime(m *view.Model, c lanes.Columns, a timeline.Axis, x int) {
	if column := x - c.Left(); column >= 0 && column < c.Lane {
		GoTo(m, a.Time(column+1).Add(-1))
	}
}
