package tui

import (
	"slices"
	"time"

	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/face/timeline"
)

// The time cursor ties lanes and stream together: where it stands, the stream
// shows what had been written by then, and scrolling the stream moves it.

func (m *model) atNow() bool {
	return m.at.IsZero() && !slices.ContainsFunc(m.overview.streams, func(s *stream) bool { return !s.following() })
}

func (m *model) backToNow() {
	m.at = time.Time{}
	for _, s := range m.overview.streams {
		s.position, s.tied, s.search.hit = following, false, -1
	}
}

// shownTime is the moment that the screen shows.
func (m *model) shownTime() time.Time {
	if m.at.IsZero() {
		return m.now
	}
	return m.at
}

// goTo puts the cursor on a moment; one that has not come is now.
func (m *model) goTo(at time.Time) {
	if !at.Before(m.now) {
		m.backToNow()
		return
	}
	m.at = at
	for _, s := range m.overview.streams {
		s.goTo(at)
	}
}

// moveTime moves by whole columns.
func (m *model) moveTime(by int) {
	a := m.axis()
	m.goTo(a.Time(a.At(m.shownTime()) + by).Add(a.Column - 1))
}

// moveSave goes to the save before or after the shown moment, to just when its
// consequences begin.
func (m *model) moveSave(by int) {
	saves, at := m.snap.Saves, m.shownTime()
	if by < 0 {
		for i := len(saves) - 1; i >= 0; i-- {
			if saves[i].At.Before(at) {
				m.goTo(saves[i].At)
				return
			}
		}
		return
	}
	for _, s := range saves {
		if s.At.After(at) {
			m.goTo(s.At)
			return
		}
	}
	m.backToNow()
}

func (m *model) zoom(by int) {
	m.span = max(0, min(m.spanIndex()+by, len(timeline.Spans)-1))
}

// toggleMouse gives the mouse to the terminal, which selects text with it, or takes it again.
func (m *model) toggleMouse() {
	if m.noMouse = !m.noMouse; m.noMouse {
		m.said = "the mouse selects text now; m takes it again"
	} else {
		m.said = "the mouse chooses and scrolls here again"
	}
}

// mouse chooses a lane, drags the time cursor, scrolls the stream.
func (m *model) mouse(msg tea.MouseMsg) {
	at := msg.Mouse()
	switch msg.(type) {
	case tea.MouseWheelMsg:
		by := 3
		if at.Button == tea.MouseWheelUp {
			by = -3
		}
		which, _ := m.overview.place(m, at.X, at.Y)
		m.overview.streams[which].scroll(by)
	case tea.MouseClickMsg:
		switch {
		case at.Button != tea.MouseLeft:
		case at.Y >= m.overview.streamTop:
			m.clickStream(at)
		case at.Y == m.overview.laneTop-1:
			m.clickSave(at.X)
		default:
			m.clickLane(at)
			if m.onAddress(at.X) && len(m.addresses().Addresses) > 0 {
				m.browse()
			}
		}
	case tea.MouseMotionMsg:
		if at.Button == tea.MouseLeft && at.Y < m.overview.streamTop {
			m.clickLane(at)
		}
	}
}

// clickStream gives the keys to the stream, and points at a line of it.
func (m *model) clickStream(at tea.Mouse) {
	m.overview.focus, _ = m.overview.place(m, at.X, at.Y)
	if l, ok := m.overview.lineAt(m, at.X, at.Y); ok && m.isOpen("overview") {
		m.pick()
		m.top().(*picking).at = l.Number
	}
}

// clickLane chooses the unit in a row, and the moment in a column.
func (m *model) clickLane(at tea.Mouse) {
	shown, _ := m.overview.lanes.visible(m, m.laneRoom())
	if i := at.Y - m.overview.laneTop; i >= 0 && i < len(shown) {
		m.selected = shown[i].Name
	}
	m.clickTime(at.X)
}

// onAddress reports whether x is where lanes have their addresses.
func (m *model) onAddress(x int) bool {
	c := m.columns()
	from := c.left() + c.lane + c.told
	return c.endpoint > 0 && x > from && x <= from+c.endpoint
}

// clickSave goes to the save whose tick or number is at x.
func (m *model) clickSave(x int) {
	a, left := m.axis(), m.columns().left()
	for _, tick := range timeline.Saves(m.snap.Saves, a) {
		if from := left + tick.Column; x >= from && x <= from+len(tick.Number) {
			m.goTo(tick.At)
		}
	}
}

// clickTime puts the time cursor into the column of the axis that is at x.
func (m *model) clickTime(x int) {
	c := m.columns()
	if column := x - c.left(); column >= 0 && column < c.lane {
		m.goTo(m.axis().Time(column + 1).Add(-1))
	}
}
