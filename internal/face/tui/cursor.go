package tui

import (
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"
)

// The time cursor ties lanes and stream together: where it stands, the stream
// shows what had been written by then, and scrolling the stream moves it.

func atNow(m *view.Model) bool {
	return m.At.IsZero() && !slices.ContainsFunc(overviewOf(m).streams, func(s *stream.Stream) bool { return !s.Following() })
}

func backToNow(m *view.Model) {
	m.At = time.Time{}
	for _, s := range overviewOf(m).streams {
		s.ToNow()
	}
}

// goTo puts the cursor on a moment; one that has not come is now.
func goTo(m *view.Model, at time.Time) {
	if !at.Before(m.Now) {
		backToNow(m)
		return
	}
	m.At = at
	for _, s := range overviewOf(m).streams {
		s.GoTo(at)
	}
}

// moveTime moves by whole columns.
func moveTime(m *view.Model, by int) {
	a := lanes.AxisOf(m)
	goTo(m, a.Time(a.At(m.ShownTime())+by).Add(a.Column-1))
}

// moveSave goes to the save before or after the shown moment, to just when its
// consequences begin.
func moveSave(m *view.Model, by int) {
	saves, at := m.Snap.Saves, m.ShownTime()
	if by < 0 {
		for i := len(saves) - 1; i >= 0; i-- {
			if saves[i].At.Before(at) {
				goTo(m, saves[i].At)
				return
			}
		}
		return
	}
	for _, s := range saves {
		if s.At.After(at) {
			goTo(m, s.At)
			return
		}
	}
	backToNow(m)
}

func zoom(m *view.Model, by int) {
	m.Span = max(0, min(lanes.SpanIndex(m)+by, len(timeline.Spans)-1))
}

// handleMouse chooses a lane, drags the time cursor, scrolls the stream.
func handleMouse(m *view.Model, msg tea.MouseMsg) {
	at := msg.Mouse()
	switch msg.(type) {
	case tea.MouseWheelMsg:
		by := 3
		if at.Button == tea.MouseWheelUp {
			by = -3
		}
		which, _ := overviewOf(m).place(m, at.X, at.Y)
		overviewOf(m).streams[which].Scroll(by)
	case tea.MouseClickMsg:
		switch {
		case at.Button != tea.MouseLeft:
		case at.Y >= overviewOf(m).streamTop:
			clickStream(m, at)
		case at.Y == overviewOf(m).lanes.Top-1:
			clickSave(m, at.X)
		default:
			clickLane(m, at)
			if onAddress(m, at.X) && len(m.Addresses()) > 0 {
				m.Browse()
			}
		}
	case tea.MouseMotionMsg:
		if at.Button == tea.MouseLeft && at.Y < overviewOf(m).streamTop {
			clickLane(m, at)
		}
	}
}

// clickStream gives the keys to the stream, and points at a line of it.
func clickStream(m *view.Model, at tea.Mouse) {
	overviewOf(m).focus, _ = overviewOf(m).place(m, at.X, at.Y)
	if l, ok := overviewOf(m).lineAt(m, at.X, at.Y); ok && m.IsOpen("overview") {
		pick(m)
		focused(m).PointAt(l.Number)
	}
}

// clickLane chooses the unit in a row, and the moment in a column.
func clickLane(m *view.Model, at tea.Mouse) {
	shown := overviewOf(m).lanes.Visible(m)
	if i := at.Y - overviewOf(m).lanes.Top; i >= 0 && i < len(shown) {
		m.Selected = shown[i].Name
	}
	clickTime(m, at.X)
}

// onAddress reports whether x is where lanes have their addresses.
func onAddress(m *view.Model, x int) bool {
	c := lanes.ColumnsOf(m)
	from := c.Left() + c.Lane + c.Note
	return c.Endpoint > 0 && x > from && x <= from+c.Endpoint
}

// clickSave goes to the save whose tick or number is at x.
func clickSave(m *view.Model, x int) {
	a, left := lanes.AxisOf(m), lanes.ColumnsOf(m).Left()
	for _, tick := range timeline.Saves(m.Snap.Saves, a) {
		if from := left + tick.Column; x >= from && x <= from+len(tick.Number) {
			goTo(m, tick.At)
		}
	}
}

// clickTime puts the time cursor into the column of the axis that is at x.
func clickTime(m *view.Model, x int) {
	c := lanes.ColumnsOf(m)
	if column := x - c.Left(); column >= 0 && column < c.Lane {
		goTo(m, lanes.AxisOf(m).Time(column+1).Add(-1))
	}
}
