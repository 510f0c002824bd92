// Package lanes draws the states of the units along an axis of time: the upper part of the overview. It also has what
// other views share with it: the axis, the row of saves, the widths of columns, and the words for states. Start reading
// at Lanes.Draw.
package lanes

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/draw"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// Lanes is the upper part of the overview: the states of each unit along an axis of time that ends now, under a row of
// ticks for the saves.
type Lanes struct {
	share int // index into shares
	order order
	// unfolded shows a window of all units, instead of folding the quiet ones into one row.
	unfolded bool

	// As last drawn:
	Top     int // the row of the first lane on the screen
	room    int // how many lanes had room
	rows    int // how many of them are below each other
	columns int // each with its own axis

	drawn map[string]drawnLane // by the unit's name
}

func NewLanes() Lanes { return Lanes{room: 1, rows: 1, drawn: map[string]drawnLane{}} }

// drawnLane is a lane as it was drawn, and everything that it was drawn from. Most of what redraws the screen changes
// no lane: output, thirty times a second.
type drawnLane struct {
	from laneLooks
	row  string
}

type laneLooks struct {
	unit, live             *api.Unit // a snapshot never changes
	chosen                 bool
	endpoint, memory, took string
	note                   string
	asks                   bool // for input
	columns                Columns
	axis                   timeline.Axis
	now, at                int // columns
	styles                 int // their generation
}

// shares are the parts of the screen that the lanes may take; the stream has the rest.
var shares = []float64{0.5, 0.25, 0.75}

// Height is how many of the rows that lanes and stream share the lanes may have.
func (l *Lanes) Height(body int) int {
	const least, minStream = 4, 4
	return max(min(int(float64(body)*shares[l.share]), body-minStream), least)
}

// NextHeight gives the lanes the next share of the screen.
func (l *Lanes) NextHeight() { l.share = (l.share + 1) % len(shares) }

// Fold folds the quiet units into one row, or unfolds them.
func (l *Lanes) Fold() { l.unfolded = !l.unfolded }

// Legend explains the textures, for the help.
var Legend = []struct {
	Cell timeline.Cell
	Text string
}{
	{timeline.Cell{State: api.Waiting}, "waiting for a need, or for what it follows"},
	{timeline.Cell{State: api.Starting}, "starting, not ready yet"},
	{timeline.Cell{State: api.Running}, "a running task, followed by its duration"},
	{timeline.Cell{State: api.Ready}, "ready, and current"},
	{timeline.Cell{State: api.Done}, "done, and current"},
	{timeline.Cell{State: api.Ready, Stale: true}, "ready, but stale: it runs older code"},
	{timeline.Cell{State: api.Done, Stale: true}, "done, but stale: its result is older"},
	{timeline.Cell{State: api.Stopping}, "stopping"},
	{timeline.Cell{State: api.Failed}, "failed"},
	{timeline.Cell{State: api.Crashed}, "crashed"},
}

// Columns are the widths of the parts of a lane. On a narrow screen the parts that matter least are dropped.
type Columns struct {
	Name, kind, state, Lane, Note, Endpoint, memory, took int
	width                                                 int // of all
}

// tookWidth has room for every duration, such as "12 min 05 s".
const tookWidth = 12

// ColumnsOf are those of a lane that is as wide as the screen.
func ColumnsOf(m *view.Model) Columns { return columnsIn(m, m.Width) }

func columnsIn(m *view.Model, width int) Columns {
	c := Columns{state: 10, took: tookWidth, width: width}
	for _, u := range m.Snap.Units {
		c.Name = max(c.Name, ansi.StringWidth(u.Name))
	}
	c.Name = min(c.Name, max(8, width/6))
	if width >= 110 {
		c.kind, c.Endpoint = 8, 7
		if width >= 130 {
			c.memory = 8
		}
	}
	if width < 78 {
		c.took = 0
	}
	// The width does not depend on what is noted now, so that the axis stays where it is.
	switch {
	case width >= 110:
		c.Note = 20
	case width >= 90:
		c.Note = 14
	}
	c.Lane = max(width-c.Left()-c.Note-c.Endpoint-c.memory-c.took-1, 5)
	return c
}

// Width is the width of a lane.
func (c Columns) Width() int { return c.width }

// Left is the column at which the axis begins.
func (c Columns) Left() int { return 2 + c.Name + 1 + c.kind + c.state + 1 }

// AxisOf is the range of time on a lane that is as wide as the screen.
func AxisOf(m *view.Model) timeline.Axis { return axisIn(m, m.Width) }

func axisIn(m *view.Model, width int) timeline.Axis {
	n, span := columnsIn(m, width).Lane, timeline.Spans[SpanIndex(m)]
	a := timeline.Skipping(m.Skips(), m.Now, 0, span, n)
	if !m.At.IsZero() && a.At(m.At) < n/10 {
		a = timeline.Skipping(m.Skips(), m.At, span/2, span, n)
	}
	return a
}

// leastWidth is the minimum width of a column, if lanes that do not all have room are in several columns.
const leastWidth = 80

// width is the width of a lane, as last drawn.
func (l *Lanes) width(m *view.Model) int { return m.Width / max(l.columns, 1) }

// Columns and Axis are those of the lanes as last drawn.
func (l *Lanes) Columns(m *view.Model) Columns    { return columnsIn(m, l.width(m)) }
func (l *Lanes) Axis(m *view.Model) timeline.Axis { return axisIn(m, l.width(m)) }

// At returns the unit whose lane is at a cell of the screen, if there is one, and the column of the cell in that lane.
func (l *Lanes) At(m *view.Model, x, y int) (u *api.Unit, column int) {
	shown, width := l.Visible(m), l.width(m)
	i := y - l.Top + x/width*l.rows
	if i >= 0 && i < len(shown) && y >= l.Top && y-l.Top < l.rows {
		u = shown[i]
	}
	return u, x % width
}

// DrawnAxis is the same range of time on a drawing, without that of other sessions.
func DrawnAxis(m *view.Model) timeline.Axis {
	a := AxisOf(m)
	from, to := a.Time(0), a.Time(a.N)
	if a.Skips != nil {
		began, ended := m.Bounds()
		if from.Before(began) {
			from = began
		}
		if to.After(ended) {
			to = ended
		}
	}
	return draw.AxisOf(from, to)
}

// SpanIndex is the index into timeline.Spans of the range on the screen. Until the user zooms, it shows all of a
// session that is younger than the first span.
func SpanIndex(m *view.Model) int {
	if m.Span >= 0 {
		return m.Span
	}
	return timeline.YoungSpan(m.Now.Sub(m.Snap.Project.Since))
}

// Draw draws the ticks, the lanes and the axis, with the title of what is below, in at most height rows. Between, if
// set, is a row that is drawn above the axis.
func (l *Lanes) Draw(m *view.Model, title string, height int, between func() string) []string {
	l.rows = max(height-2, 1)
	if between != nil {
		l.rows = max(l.rows-1, 1)
	}
	units := len(l.ordered(m, l.rows))
	l.columns = max(min((units+l.rows-1)/l.rows, m.Width/leastWidth), 1)
	l.room = l.columns * l.rows
	if l.columns > 1 && units > l.room {
		l.room-- // the last place is for what is folded
	}
	shown, folded := l.visibleIn(m, l.room)
	c := l.Columns(m)
	lines := make([]string, 0, len(shown)+1)
	for _, u := range shown {
		lines = append(lines, l.lane(m, u, c, l.Axis(m)))
	}
	for i, text := range l.foldedTexts(m, shown, folded) {
		mark := "  "
		if i == 0 {
			mark = hiddenSelection(m, shown)
		}
		lines = append(lines, cells.Fit(mark+m.Palette.Dim.Render(text), c.width))
	}
	if l.rows = min(l.rows, len(lines)); l.columns > 1 {
		l.rows = (len(lines) + l.columns - 1) / l.columns
	}
	rows := l.column(m, lines, 0, title, between)
	for n := 1; n < l.columns; n++ {
		for i, row := range l.column(m, lines, n, "", between) {
			rows[i] += row
		}
	}
	if l.columns > 1 {
		for i := range rows {
			rows[i] = cells.Fit(rows[i], m.Width)
		}
	}
	l.Top = m.BodyTop + 1
	return rows
}

// column draws the column of lanes with that number, with its ticks and its axis.
func (l *Lanes) column(m *view.Model, lines []string, number int, title string, between func() string) []string {
	c, a := l.Columns(m), l.Axis(m)
	from, to := min(number*l.rows, len(lines)), min((number+1)*l.rows, len(lines))
	rows := append([]string{SavesRow(m, c, a)}, lines[from:to]...)
	for len(rows) < 1+l.rows {
		rows = append(rows, cells.Fit("", c.width))
	}
	if between != nil {
		rows = append(rows, between())
	}
	return append(rows, TimeRule(m, c, a, title, c.width))
}

// hiddenSelection names the selected unit in the row of the folded units if it has no row of its own, so that it is
// always seen on what keys act.
func hiddenSelection(m *view.Model, shown []*api.Unit) string {
	u := m.SelectedUnit()
	if u == nil || slices.Contains(shown, u) {
		return "  "
	}
	return m.Palette.Bright.Render("▸ ") + m.UnitStyle(u.Name).Bold(true).Underline(true).Render(u.Name) + " " +
		m.Palette.ToneStyle(u.Tone()).Render(StateWord(u)) + "  "
}

// SavesRow marks each save on the axis, with the number of its ripple.
func SavesRow(m *view.Model, c Columns, a timeline.Axis) string {
	s := cells.NewStrip(a.N, " ", &m.Palette.Text)
	for _, tick := range timeline.Saves(m.Saves(), a) {
		style := &m.Palette.Dim
		if tick.Newest {
			style = &m.Palette.Bright
		}
		s.Set(tick.Column, "▾", style)
		s.Write(tick.Column+1, tick.Number, style)
	}
	label := "saves"
	if !m.At.IsZero() {
		label = "at " + m.Cursor()
		s.Set(a.At(m.At), "▾", &m.Palette.Chosen)
	}
	return cells.Fit(cells.Fit("  "+m.Palette.Dim.Render(label), c.Left())+s.String(), c.width)
}

// lane returns a unit's row.
func (l *Lanes) lane(m *view.Model, u *api.Unit, c Columns, a timeline.Axis) string {
	use := m.Snap.Uses[u.Name]
	looks := laneLooks{
		u,
		m.Live.Unit(u.Name),
		u.Name == m.Selected,
		Endpoint(use),
		Memory(use),
		took(u, m.Now),
		NoteOf(m, u),
		m.Snap.Asks[u.Name].Kind != "",
		c,
		a,
		a.At(m.Now),
		-1,
		m.Generation,
	}
	if m.IsPast() { // what is not kept over time is not shown
		looks.at = a.At(m.At)
		looks.endpoint, looks.memory, looks.note, looks.asks = "", "", "", false
	}
	if d, ok := l.drawn[u.Name]; !ok || d.from != looks {
		l.drawn[u.Name] = drawnLane{looks, l.drawLane(m, looks)}
	}
	return l.drawn[u.Name].row
}

func (l *Lanes) drawLane(m *view.Model, looks laneLooks) string {
	u, c := looks.unit, looks.columns
	mark, name := "  ", m.UnitStyle(u.Name).Render(cells.Fit(u.Name, c.Name))
	if looks.chosen {
		mark = m.Palette.Bright.Render("▸ ")
		name = m.UnitStyle(u.Name).Bold(true).Underline(true).Render(strings.TrimRight(cells.Fit(u.Name, c.Name), " "))
		name = cells.Fit(name, c.Name)
	}
	state := StateWord(u)
	row := mark + name + " "
	if c.kind > 0 {
		row += m.Palette.Dim.Render(cells.Fit(u.Kind, c.kind))
	}
	row += m.Palette.ToneStyle(u.Tone()).Render(cells.Fit(state, c.state)) + " " + l.life(m, looks)
	if c.Note > 0 {
		row += " " + noteStyle(m, u).Render(cells.Fit(ansi.Truncate(looks.note, c.Note-1, "…"), c.Note-1))
	}
	if c.Endpoint > 0 {
		row += " " + m.Palette.Dim.Render(cells.Fit(looks.endpoint, c.Endpoint-1))
	}
	if c.memory > 0 {
		row += " " + m.Palette.Dim.Render(fmt.Sprintf("%*s", c.memory-1, looks.memory))
	}
	if c.took > 0 {
		row += " " + m.Palette.Dim.Render(fmt.Sprintf("%*s", c.took-1, looks.took))
	}
	return cells.Fit(row, c.width)
}

// StateWord is the state of a unit in one word, and whether another run follows.
func StateWord(u *api.Unit) string {
	word := u.Word()
	if u.Queued && u.State == api.Running {
		word += " +1" // another run follows
	}
	return word
}

// outcome is the result of a unit's tests in a few letters: how many failed, or how many have run; without tests, how
// many errors or warnings were found.
func outcome(u *api.Unit) string {
	r := u.Report
	switch {
	case r.Cases > 0 && u.State == api.Running && r.Run == u.Run.Number && r.Expected >= r.Ran && r.FailedNow == 0:
		return fmt.Sprintf("%d/%d", r.Ran, r.Expected)
	case r.Failed > 0 && r.OnlyFailures:
		return fmt.Sprintf("%d fail", r.Failed)
	case r.Failed > 0:
		return fmt.Sprintf("%d/%d fail", r.Failed, r.Cases)
	case r.Cases > 0 && !r.OnlyFailures:
		return fmt.Sprintf("%d passed", r.Passed)
	case r.Errors > 0:
		return format.Count(r.Errors, "error")
	case r.Warnings > 0:
		return format.Count(r.Warnings, "warning")
	}
	return ""
}

// notRun tells how many tests a narrowed unit did not run.
func notRun(u *api.Unit) string {
	n := u.Report.NotRun(u.Run.Number)
	if u.Narrowed == "" || n == 0 {
		return ""
	}
	return fmt.Sprintf(" %d not run", n)
}

// NoteOf is the question of a unit that waits for input, or else what matters for its kind: its outcome, or the pages
// and requests of a relay.
func NoteOf(m *view.Model, u *api.Unit) string {
	const most = 28 // cells of a question
	use, ask := m.Snap.Uses[u.Name], m.Snap.Asks[u.Name]
	switch {
	case ask.Kind == api.AskPassword:
		return "asks a password"
	case ask.Kind == api.AskLine:
		return ansi.Truncate("asks "+ask.Text, most, "…")
	case u.Run.Pace != "":
		return u.Run.Pace
	case u.Kind != "relay":
		note := strings.TrimSpace(outcome(u) + notRun(u))
		if note == "" && u.Run.Restored {
			note = "restored"
			if u.Run.MadeBy != "" {
				note += " from " + u.Run.MadeBy
			}
		}
		return note
	case use.Failed > 0:
		return fmt.Sprintf("%.0f/s, %d failed", use.Requests, use.Failed)
	case use.Requests > 0:
		return fmt.Sprintf("%s, %.1f/s", format.Count(use.Pages, "page"), use.Requests)
	case use.Pages > 0:
		return format.Count(use.Pages, "page")
	}
	return ""
}

func noteStyle(m *view.Model, u *api.Unit) lipgloss.Style {
	switch r := u.Report; {
	case r.Failed > 0, r.Cases == 0 && r.Errors > 0:
		return m.Palette.Broken
	case r.Cases == 0 && r.Warnings > 0:
		return m.Palette.Stale
	}
	return m.Palette.Dim
}

// Endpoint is the first port that a unit listens on, with a mark if there are others.
func Endpoint(u api.Use) string {
	if len(u.Addresses) == 0 {
		return ""
	}
	text := fmt.Sprintf(":%d", u.Addresses[0].Port())
	for _, e := range u.Addresses[1:] {
		if e.Port() != u.Addresses[0].Port() {
			return text + "…"
		}
	}
	return text
}

// Memory is the memory of a unit's processes, rounded.
func Memory(u api.Use) string {
	if u.Memory == 0 {
		return ""
	}
	return format.Bytes(float64(u.Memory))
}

// took is the duration of the newest run or pass; for a reused result, the time when it was made.
func took(u *api.Unit, now time.Time) string {
	r, p := u.Run, u.Pass
	switch {
	case r.Number == 0:
		return ""
	case p.Number > 1 && p.EndedAt.IsZero():
		return format.Duration(now.Sub(p.BeganAt).Truncate(100 * time.Millisecond))
	case p.Number > 1:
		return format.Duration(p.EndedAt.Sub(p.BeganAt))
	case !r.ReusedAt.IsZero() && now.Sub(r.ReusedAt) < 12*time.Hour:
		return "from " + r.ReusedAt.Format("15:04")
	case !r.ReusedAt.IsZero():
		return r.ReusedAt.Format("2 Jan")
	case !r.ReadyAt.IsZero():
		return format.Duration(r.ReadyAt.Sub(r.OrderedAt))
	case !r.EndedAt.IsZero():
		return format.Duration(r.EndedAt.Sub(r.OrderedAt))
	}
	return format.Duration(now.Sub(r.OrderedAt).Truncate(100 * time.Millisecond))
}

// life draws the lane itself.
func (l *Lanes) life(m *view.Model, looks laneLooks) string {
	a := looks.axis
	lane := timeline.LaneOf(m.MarksOf(looks.unit), a, m.Now)
	s := cells.NewStrip(a.N, " ", &m.Palette.Text)
	styles := map[timeline.Cell]*lipgloss.Style{}
	for i, c := range lane.Cells {
		glyph, style := m.Palette.Texture(c)
		if styles[c] == nil {
			styles[c] = &style
		}
		s.Set(i, glyph, styles[c])
	}
	for _, label := range lane.Labels {
		s.Write(label.Column, label.Text, &m.Palette.Dim)
	}
	for _, b := range a.Bounds() {
		s.Set(b.Column-1, boundGlyph, &m.Palette.Dim)
	}
	if r := looks.unit.Report; !r.FailedAt.IsZero() {
		if i := a.At(r.FailedAt); a.Has(i) { // where the first failure was reported
			glyph, style := m.Palette.Texture(timeline.Cell{State: api.Failed})
			style = style.Bold(true)
			s.Set(i, glyph, &style)
		}
	}
	if i := min(looks.now, a.N-1); looks.asks && looks.now >= 0 && looks.now <= a.N {
		s.Set(i, "?", &m.Palette.Bright)
	}
	if i := looks.at; a.Has(i) {
		style := styles[lane.Cells[i]].Reverse(true)
		s.Set(i, s.Glyphs[i], &style)
	}
	return s.String()
}

// TimeRule is a rule with a title and, under the axis, the times of day.
func TimeRule(m *view.Model, c Columns, a timeline.Axis, title string, width int) string {
	s := cells.NewStrip(width, "─", &m.Palette.Faint)
	if title != "" {
		title = ansi.Truncate(title, width-12, "…")
		s.Write(1, " "+title+" ", &m.Palette.Dim)
	}
	left, begun := c.Left(), ansi.StringWidth(title)+4
	bounds := a.Bounds()
	for _, t := range a.Ticks(4 + len(a.Label(a.Start))) {
		column, label := left+a.At(t), a.Label(t)
		covered := slices.ContainsFunc(bounds, func(b timeline.Bound) bool {
			return column+1+len(label) >= left+b.Column-boundWidth && column <= left+b.Column+len("15:04")
		})
		if column > begun && column+1+len(label) < left+a.N-4 && !covered {
			s.Set(column, "┴", &m.Palette.Faint)
			s.Write(column+1, label, &m.Palette.Dim)
		}
	}
	free := begun
	for _, b := range bounds { // when the session before it ended, and that after it began
		at := left + b.Column - 1
		s.Set(at, boundGlyph, &m.Palette.Dim)
		ended, began := b.From.Format(" 2 Jan 15:04 "), b.To.Format(" 15:04 ")
		if from := at - len(ended); from >= free {
			s.Write(from, ended, &m.Palette.Dim)
			if free = at + 1; free+len(began) < left+a.N-4 {
				s.Write(free, began, &m.Palette.Dim)
				free += len(began)
			}
		}
	}
	if m.At.IsZero() || a.At(m.Now) < a.N {
		s.Write(left+a.N-4, " now", &m.Palette.Dim)
	}
	if span := " " + spanName(a.Span()) + " "; left-len(span)-1 > ansi.StringWidth(title)+4 {
		s.Write(left-len(span)-1, span, &m.Palette.Dim)
	}
	return s.String()
}

// boundGlyph is where the axis leaves out the time between two sessions.
const boundGlyph = "╎"

// boundWidth is the width of the time to the left of it.
const boundWidth = len(" 28 Jan 15:04 ")

func spanName(d time.Duration) string {
	d = d.Round(time.Second)
	switch {
	case d < 2*time.Minute:
		return fmt.Sprintf("%.0f s", d.Seconds())
	case d < 2*time.Hour:
		return fmt.Sprintf("%.0f min", d.Minutes())
	}
	if d <= 48*time.Hour {
		return fmt.Sprintf("%.0f h", d.Hours())
	}
	return fmt.Sprintf("%.0f days", d.Hours()/24)
}

// Move selects another unit, in the order shown.
func (l *Lanes) Move(m *view.Model, by int) {
	units := l.ordered(m, l.room)
	if len(units) == 0 {
		return
	}
	i := slices.IndexFunc(units, func(u *api.Unit) bool { return u.Name == m.Selected })
	m.Selected = units[max(0, min(max(i, 0)+by, len(units)-1))].Name
}

// NextBroken selects the next broken unit.
func (l *Lanes) NextBroken(m *view.Model) {
	units := m.Snap.Units
	at := slices.IndexFunc(units, func(u *api.Unit) bool { return u.Name == m.Selected })
	for n := range units {
		if u := units[(at+1+n)%len(units)]; u.State.Broken() {
			m.Selected, m.Filter = u.Name, ""
			return
		}
	}
}

// SelectedBroken reports whether the selected unit is broken.
func SelectedBroken(m *view.Model) bool {
	u := m.SelectedUnit()
	return u != nil && u.State.Broken()
}

func AnyBroken(m *view.Model) bool {
	return slices.ContainsFunc(m.Snap.Units, func(u *api.Unit) bool { return u.State.Broken() })
}
