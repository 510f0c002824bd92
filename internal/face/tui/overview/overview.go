// Package overview is the main view: lanes above, one or two streams below, and the time cursor that connects them. It
// is always the lowest view of the stack. Start reading at Overview.
package overview

import (
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/draw"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
)

// Overview is the main view: the lanes above, one or two streams below.
type Overview struct {
	Lanes   lanes.Lanes
	Streams []*stream.Stream
	focus   int    // the index of the one that has the keys
	layout  layout // of two
	volume  volume // the chart above the stream

	StreamTop int // the first row of the streams on the screen
}

// layout is how two streams are arranged.
type layout int

const (
	asFits layout = iota // side by side on a wide screen
	beside
	below
)

// WideEnough is the width from which two streams fit side by side.
const WideEnough = 120

func New() *Overview {
	return &Overview{Lanes: lanes.NewLanes(), Streams: []*stream.Stream{stream.New(beyond)}}
}

func (*Overview) Name() string { return "overview" }

func (*Overview) Grabs(*view.Model) bool { return false }

// Ask implements view.Asker for the streams.
func (o *Overview) Ask(m *view.Model) {
	for _, s := range o.Streams {
		s.Ask(m)
	}
	o.volume.ask(m)
}

// Of returns the overview, the lowest view on the stack.
func Of(m *view.Model) *Overview { return m.Stack[0].(*Overview) }

// Focused returns the stream that keys act on.
func Focused(m *view.Model) *stream.Stream { return Of(m).Streams[Of(m).focus] }

func (o *Overview) Draw(m *view.Model, width, height int) []string {
	return UnderLanes(m, o.title(m), height, func(room int) []string { return o.drawStreams(m, width, room) })
}

// besides reports whether two streams are side by side.
func (o *Overview) besides(width int) bool {
	return len(o.Streams) == 2 && (o.layout == beside || o.layout == asFits && width >= WideEnough)
}

func (o *Overview) drawStreams(m *view.Model, width, height int) []string {
	if len(o.Streams) == 1 {
		return o.Streams[0].Draw(m, width, height)
	}
	if o.besides(width) {
		left := (width - 1) / 2
		a, b := o.Streams[0].Draw(m, left, height-1), o.Streams[1].Draw(m, width-left-1, height-1)
		rows := []string{o.rule(m, 0, left) + m.Palette.Faint.Render("┬") + o.rule(m, 1, width-left-1)}
		for i := range a {
			rows = append(rows, a[i]+m.Palette.Faint.Render("│")+b[i])
		}
		return rows
	}
	upper := (height - 1) / 2
	rows := append(o.Streams[0].Draw(m, width, upper), o.rule(m, 1, width))
	return append(rows, o.Streams[1].Draw(m, width, height-upper-1)...)
}

// rule is the title line of one of two streams.
func (o *Overview) rule(m *view.Model, which, width int) string {
	style := m.Palette.Dim
	if which == o.focus {
		style = m.Palette.Bright
	}
	title := ansi.Truncate(o.Streams[which].Title(), max(width-6, 1), "…")
	rest := strings.Repeat("─", max(width-ansi.StringWidth(title)-3, 0))
	return cells.Fit(m.Palette.Faint.Render("─")+" "+style.Render(title)+" "+m.Palette.Faint.Render(rest), width)
}

// title is the title on the rule below the lanes.
func (o *Overview) title(m *view.Model) string {
	if o.besides(m.Width) {
		return ""
	}
	title := o.Streams[0].Title()
	if m.Session() != "" {
		began, _ := m.Bounds()
		title += ", session of " + began.Format("2 Jan 15:04")
	}
	return title
}

// place returns the stream at a cell of the screen, and the row in it.
func (o *Overview) place(m *view.Model, x, y int) (which, row int) {
	row = y - o.StreamTop
	switch {
	case len(o.Streams) == 1:
		return 0, row
	case o.besides(m.Width):
		if x > (m.Width-1)/2 {
			which = 1
		}
		return which, row - 1
	case row > o.Streams[0].Height:
		return 1, row - o.Streams[0].Height - 1
	}
	return 0, row
}

// lineAt returns the line at a cell of the screen, if it is in the stream that has the keys.
func (o *Overview) lineAt(m *view.Model, x, y int) (api.Line, bool) {
	which, row := o.place(m, x, y)
	if which != o.focus {
		return api.Line{}, false
	}
	return o.Streams[which].LineAt(row)
}

// Awaits reports whether the newest lines of a stream are being fetched.
func (o *Overview) Awaits() bool { return slices.ContainsFunc(o.Streams, (*stream.Stream).Awaits) }

// split shows a second stream, of the selected unit: arranged as fits the screen, then the other way, then no longer.
func (o *Overview) split(m *view.Model) {
	switch {
	case len(o.Streams) == 1:
		second := stream.New(beyond)
		if f := (query.Filter{{Field: query.Units,
			Units: []string{m.Selected}}}); f.String() != o.Streams[0].Filter.String() {
			second.Filter = f
		}
		o.Streams, o.focus, o.layout = append(o.Streams, second), 1, asFits
		if !m.At.IsZero() {
			second.GoTo(m.At)
		}
	case o.layout == asFits && o.besides(m.Width):
		o.layout = below
	case o.layout == asFits:
		o.layout = beside
	default:
		o.Streams, o.focus = o.Streams[:1], 0
	}
}

// other gives the keys to the other stream.
func (o *Overview) other() { o.focus = (o.focus + 1) % len(o.Streams) }

func (o *Overview) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseMsg:
		HandleMouse(m, msg)
	}
}

// UnderLanes draws the lanes, a rule with a title, and what lower draws in the rows below.
func UnderLanes(m *view.Model, title string, height int, lower func(room int) []string) []string {
	lanes := &Of(m).Lanes
	var chart func() string
	if m.Height >= volumeHeight && len(m.Snap.Units) > 0 {
		chart = func() string { return Of(m).volume.row(m) }
	}
	rows := lanes.Draw(m, title, lanes.Height(height), chart)
	Of(m).StreamTop = m.BodyTop + len(rows)
	return append(rows, lower(height-len(rows))...)
}

// Drawing implements view.Drawable.
func (*Overview) Drawing(m *view.Model) (string, func() (*draw.Page, error)) {
	snap, axis, now := m.Snap, lanes.DrawnAxis(m), m.Now
	return "lanes", func() (*draw.Page, error) { return draw.Lanes(snap, axis, now) }
}
