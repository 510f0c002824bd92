package tui

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
)

// overview is the main view: the lanes above, one or two streams below.
type overview struct {
	lanes   lanes.Lanes
	streams []*stream.Stream
	focus   int    // which of them has the keys
	layout  layout // of two

	streamTop int // the row of the screen at which they begin
}

// layout is how two streams lie.
type layout int

const (
	asFits layout = iota // side by side where that leaves both wide enough
	beside
	below
)

// wideEnough is the width from which two streams lie side by side.
const wideEnough = 120

func newOverview() *overview {
	return &overview{lanes: lanes.NewLanes(), streams: []*stream.Stream{stream.New(backToNow)}}
}

func (*overview) Name() string { return "overview" }

func (*overview) Grabs(*view.Model) bool { return false }

// Ask implements asker for the streams.
func (o *overview) Ask(m *view.Model) {
	for _, s := range o.streams {
		s.Ask(m)
	}
}

// overviewOf returns the overview, which is at the bottom of the stack.
func overviewOf(m *view.Model) *overview { return m.Stack[0].(*overview) }

// focused is the one that keys act on.
func focused(m *view.Model) *stream.Stream { return overviewOf(m).streams[overviewOf(m).focus] }

func (o *overview) Draw(m *view.Model, width, height int) []string {
	return underLanes(m, o.title(m), height, func(room int) []string { return o.drawStreams(m, width, room) })
}

// besides reports whether two streams lie side by side.
func (o *overview) besides(width int) bool {
	return len(o.streams) == 2 && (o.layout == beside || o.layout == asFits && width >= wideEnough)
}

func (o *overview) drawStreams(m *view.Model, width, height int) []string {
	if len(o.streams) == 1 {
		return o.streams[0].Draw(m, width, height)
	}
	if o.besides(width) {
		left := (width - 1) / 2
		a, b := o.streams[0].Draw(m, left, height-1), o.streams[1].Draw(m, width-left-1, height-1)
		rows := []string{o.rule(m, 0, left) + m.Palette.Faint.Render("┬") + o.rule(m, 1, width-left-1)}
		for i := range a {
			rows = append(rows, a[i]+m.Palette.Faint.Render("│")+b[i])
		}
		return rows
	}
	upper := (height - 1) / 2
	rows := append(o.streams[0].Draw(m, width, upper), o.rule(m, 1, width))
	return append(rows, o.streams[1].Draw(m, width, height-upper-1)...)
}

// rule is the line over one of two streams that says what it shows.
func (o *overview) rule(m *view.Model, which, width int) string {
	style := m.Palette.Dim
	if which == o.focus {
		style = m.Palette.Bright
	}
	title := ansi.Truncate(o.streams[which].Title(), max(width-6, 1), "…")
	rest := strings.Repeat("─", max(width-ansi.StringWidth(title)-3, 0))
	return cells.Fit(m.Palette.Faint.Render("─")+" "+style.Render(title)+" "+m.Palette.Faint.Render(rest), width)
}

// title is what the rule under the lanes says of the streams.
func (o *overview) title(m *view.Model) string {
	if o.besides(m.Width) {
		return ""
	}
	return o.streams[0].Title()
}

// place returns which stream has a cell of the screen, and in which of its rows.
func (o *overview) place(m *view.Model, x, y int) (which, row int) {
	row = y - o.streamTop
	switch {
	case len(o.streams) == 1:
		return 0, row
	case o.besides(m.Width):
		if x > (m.Width-1)/2 {
			which = 1
		}
		return which, row - 1
	case row > o.streams[0].Height:
		return 1, row - o.streams[0].Height - 1
	}
	return 0, row
}

// lineAt returns the line that is in a cell of the screen, in the stream that has the keys.
func (o *overview) lineAt(m *view.Model, x, y int) (api.Line, bool) {
	which, row := o.place(m, x, y)
	if which != o.focus {
		return api.Line{}, false
	}
	return o.streams[which].LineAt(row)
}

// awaits reports whether the newest lines of a stream are on their way.
func (o *overview) awaits() bool { return slices.ContainsFunc(o.streams, (*stream.Stream).Awaits) }

// split shows a second stream, of the selected unit: as the screen's shape suggests, then the
// other way, then no more.
func (o *overview) split(m *view.Model) {
	switch {
	case len(o.streams) == 1:
		second := stream.New(backToNow)
		if f := (query.Filter{{Field: query.Units,
			Units: []string{m.Selected}}}); f.String() != o.streams[0].Filter.String() {
			second.Filter = f
		}
		o.streams, o.focus, o.layout = append(o.streams, second), 1, asFits
		if !m.At.IsZero() {
			second.GoTo(m.At)
		}
	case o.layout == asFits && o.besides(m.Width):
		o.layout = below
	case o.layout == asFits:
		o.layout = beside
	default:
		o.streams, o.focus = o.streams[:1], 0
	}
}

// other gives the keys to the other stream.
func (o *overview) other() { o.focus = (o.focus + 1) % len(o.streams) }

func (o *overview) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		handleMouse(m, msg)
	}
}

// underLanes draws the lanes, a rule with a title, and below that what there is room for.
func underLanes(m *view.Model, title string, height int, lower func(room int) []string) []string {
	lanes := &overviewOf(m).lanes
	rows := lanes.Draw(m, title, lanes.Height(height))
	overviewOf(m).streamTop = m.BodyTop + len(rows)
	return append(rows, lower(height-len(rows))...)
}
