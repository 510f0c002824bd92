package tui

import tea "charm.land/bubbletea/v2"

// overview is the main view: the lanes above, the stream below.
type overview struct {
	lanes  lanes
	stream stream
}

func newOverview() overview {
	return overview{lanes: lanes{span: -1}, stream: stream{position: position{bottom: -1}}}
}

func (*overview) name() string { return "overview" }

func (*overview) grabs(*model) bool { return false }

func (o *overview) draw(m *model, width, height int) []string {
	return m.underLanes(height, func(room int) []string { return o.stream.draw(m, room) })
}

func (o *overview) update(m *model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		m.mouse(msg)
	case pageMsg:
		o.stream.take(m, msg)
	}
}

// underLanes draws the lanes, and below them what there is room for.
func (m *model) underLanes(height int, lower func(room int) []string) []string {
	lanes := &m.overview.lanes
	m.laneTop = m.bodyTop + 1
	rows := lanes.draw(m, lanes.height(height))
	m.streamTop = m.bodyTop + len(rows)
	return append(rows, lower(height-len(rows))...)
}
