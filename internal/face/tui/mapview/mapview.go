// Package mapview is the view of units as boxes, with needs and follows as lines, and the answer to what a save or a
// restart would set off. The layout comes from package timeline. Start reading at mapView.
package mapview

import (
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/draw"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/view"
)

// mapView is the view of needs and follows, and of what a save or a restart would set off.
type mapView struct {
	around bool   // only the selected unit and its links
	group  string // whose members are highlighted; empty: none
	unfold bool   // similar units have boxes of their own, even if there is no room
	asked  string
	steps  []api.Step // the answer: what would act
	answer []string   // the same as text, or why nothing would act

	drawn mapDrawn
}

// mapDrawn is the map as it was last drawn, for keys and mouse.
type mapDrawn struct {
	timeline.Map
	left  []int // the columns at which the boxes of each layer begin, on the map
	width []int // the widths of these boxes
	x, y  int   // the cell of the map at the upper left corner
	top   int   // the first row of the map on the screen
	pitch int   // the height of a row of the map
}

func Show(m *view.Model) { m.Show(&mapView{}) }

// ShowIfSaved shows the map with what a save of a path would set off.
func ShowIfSaved(m *view.Model, path string) {
	v := &mapView{}
	m.Show(v)
	v.ifSaved(m, path)
}

func (*mapView) Name() string { return "map" }

func (*mapView) Grabs(*view.Model) bool { return false }

func (v *mapView) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseWheelMsg:
		v.walk(m, 0, view.Wheel(msg)/3)
	case tea.MouseClickMsg:
		v.click(m, msg.X, msg.Y)
	}
}

// click selects the unit of the box at a cell.
func (v *mapView) click(m *view.Model, x, y int) {
	d := &v.drawn
	row := (y - d.top + d.y) / max(d.pitch, 1)
	for _, b := range d.Boxes {
		if left := d.left[b.Layer] - d.x; b.Row == row && x >= left && x < left+d.width[b.Layer] {
			m.Selected = b.Units[0].Name
		}
	}
}

// walk selects another unit: along a line from the selected one, or above or below it.
func (v *mapView) walk(m *view.Model, right, down int) {
	d := &v.drawn
	at := slices.IndexFunc(d.Boxes, func(b timeline.Box) bool { return b.Has(m.Selected) })
	if at < 0 {
		return
	}
	var among []int
	before, after := d.Linked(at)
	switch {
	case right < 0:
		among = before
	case right > 0:
		among = after
	default:
		for i, b := range d.Boxes {
			if b.Layer == d.Boxes[at].Layer && (b.Row-d.Boxes[at].Row)*down > 0 {
				among = append(among, i)
			}
		}
	}
	if len(among) == 0 {
		return
	}
	near := func(i int) int { return max(d.Boxes[i].Row-d.Boxes[at].Row, d.Boxes[at].Row-d.Boxes[i].Row) }
	next := slices.MinFunc(among, func(a, b int) int { return near(a) - near(b) })
	m.Selected = d.Boxes[next].Units[0].Name
}

// ifRestarted highlights what a restart of the selected unit would set off.
func (v *mapView) ifRestarted(m *view.Model) {
	u := m.SelectedUnit()
	if u == nil {
		return
	}
	v.asked, v.steps = "if "+u.Name+" were restarted or rerun", timeline.IfRestarted(m.Snap, u.Name)
	v.answer = nil
	for _, s := range v.steps {
		v.answer = append(v.answer, fmt.Sprintf("%s %s (%s)", s.Unit, s.Does, s.Because))
	}
}

// forget removes the question and the highlighted group.
func (v *mapView) forget() { v.asked, v.steps, v.answer, v.group = "", nil, nil, "" }

// lit reports whether there is a question or a highlighted group.
func (v *mapView) lit() bool { return v.asked != "" || v.group != "" }

// nextGroup highlights the members of the next group, and after the last group none.
func (v *mapView) nextGroup(m *view.Model) {
	names := slices.Sorted(maps.Keys(m.Snap.Project.Groups))
	next := slices.Index(names, v.group) + 1
	if v.forget(); next < len(names) {
		v.group = names[next]
	}
}

// stands reports whether a unit is highlighted: it would act, or is in the group.
func (v *mapView) stands(m *view.Model, unit string) bool {
	return v.number(unit) > 0 || v.group != "" && slices.Contains(m.Snap.Project.Groups[v.group], unit)
}

// number is the unit's step in the answer, from 1; 0: none.
func (v *mapView) number(unit string) int {
	return 1 + slices.IndexFunc(v.steps, func(s api.Step) bool { return s.Unit == unit })
}

func (v *mapView) Draw(m *view.Model, width, height int) []string {
	title := "map: a thin line to what needs it, a thick one to what follows it"
	if v.around {
		title = "map: what " + m.Selected + " is linked with"
	}
	if v.group != "" {
		title = "map: the group " + v.group
	}
	rows := []string{m.TitledRule(title, width)}
	foot := v.foot(m, width, max(height/3, 2))
	room := max(height-len(rows)-len(foot), 1)
	o := timeline.MapOptions{Rows: room, Keep: func(u *api.Unit) bool {
		return u.Name == m.Selected || u.State.Broken() || u.Moving || v.stands(m, u.Name)
	}}
	if v.around {
		o.Only = timeline.Around(m.Snap, m.Selected)
	}
	if v.unfold {
		o.Rows = 0
	}
	v.drawn.Map, v.drawn.top = timeline.MapOf(m.Snap, o), m.BodyTop+1
	rows = append(rows, v.picture(m, width, room)...)
	return append(view.Pad(rows, height-len(foot), width), foot...)
}

// foot is the question and the answer.
func (v *mapView) foot(m *view.Model, width, most int) []string {
	if v.asked == "" {
		return nil
	}
	rows := []string{m.TitledRule(v.asked, width)}
	for _, text := range v.answer {
		rows = append(rows, cells.Fit("  "+text, width))
	}
	if len(rows) > most {
		rows = append(
			rows[:most-1],
			cells.Fit(m.Palette.Dim.Render(fmt.Sprintf("  and %d more lines", len(rows)-most+1)), width),
		)
	}
	return rows
}

// boxText is the name and the state in a box.
func (v *mapView) boxText(b timeline.Box) (name, state string) {
	u := b.Units[0]
	if n := v.number(u.Name); n > 0 {
		return fmt.Sprintf("%d %s", n, b.Name()), v.steps[n-1].Does
	}
	return b.Name(), lanes.StateWord(u)
}

// picture draws the part of the map around the selected unit.
func (v *mapView) picture(m *view.Model, width, height int) []string {
	d := &v.drawn
	d.pitch = 1
	for _, pitch := range []int{3, 5} { // boxes of one line, or of two with a row between them
		if d.Rows*pitch <= height {
			d.pitch = pitch
		}
	}
	v.measure(m, width)
	total := 0
	if n := len(d.left); n > 0 {
		total = d.left[n-1] + d.width[n-1] + 1
	}
	l := cells.NewLinework(max(total, 1), max(d.Rows*d.pitch, 1))
	for _, last := range []bool{false, true} { // highlighted lines are drawn over the others
		for _, k := range d.Links {
			if v.marked(m, k) == last {
				v.drawLink(m, l, k)
			}
		}
	}
	for _, b := range d.Boxes {
		v.drawBox(m, l, b)
	}
	v.follow(m, width, height, l)
	var rows []string
	for y := d.y; y < min(d.y+height, l.Height); y++ {
		rows = append(rows, cells.Fit(l.Row(y, d.x, min(width, l.Width-d.x)), width))
	}
	return rows
}

// measure computes the columns of the layers. Spare room is distributed between them.
func (v *mapView) measure(m *view.Model, room int) {
	d := &v.drawn
	d.width, d.left = make([]int, d.Layers), make([]int, d.Layers)
	for _, b := range d.Boxes {
		name, state := v.boxText(b)
		wide := ansi.StringWidth(name) + 1 + 2 + 1 + ansi.StringWidth(state)
		if d.pitch == 5 {
			wide = max(wide, ansi.StringWidth(boxMore(m, b)))
		}
		d.width[b.Layer] = max(d.width[b.Layer], wide+4)
	}
	total := 2
	for i, w := range d.width {
		if total += w; i < len(d.Tracks) {
			total += d.Tracks[i] + 3
		}
	}
	const most = 12
	more := max(min((room-total)/max(len(d.Tracks), 1), most), 0)
	left := 1
	for i := range d.left {
		d.left[i] = left
		if left += d.width[i]; i < len(d.Tracks) {
			left += d.Tracks[i] + 3 + more
		}
	}
}

// boxMore is the second line of a box: the unit's kind, port, test results or findings, and memory.
func boxMore(m *view.Model, b timeline.Box) string {
	if len(b.Units) > 1 {
		return ""
	}
	u := b.Units[0]
	use := m.Snap.Uses[u.Name]
	return strings.Join(
		slices.DeleteFunc(
			[]string{u.Kind, lanes.Endpoint(use), lanes.NoteOf(m, u), lanes.Memory(use)},
			func(s string) bool { return s == "" },
		),
		"  ",
	)
}

// rowAt is the row of the picture at which names are written and links begin and end, for a row of the map.
func (d *mapDrawn) rowAt(row int) int { return row*d.pitch + min(d.pitch/2, 1) }

// marked reports whether a link is highlighted: it is between highlighted units or, without any, at the selected one.
func (v *mapView) marked(m *view.Model, k timeline.Link) bool {
	from, to := v.drawn.Boxes[k.From], v.drawn.Boxes[k.To]
	if v.lit() {
		return v.stands(m, from.Units[0].Name) && v.stands(m, to.Units[0].Name)
	}
	return from.Has(m.Selected) || to.Has(m.Selected)
}

// drawLink draws a line from box to box. With a question, the lines of units that would not act are dimmed.
func (v *mapView) drawLink(m *view.Model, l *cells.Linework, k timeline.Link) {
	d := &v.drawn
	weight, style := byte(cells.Thin), &m.Palette.Dim
	if k.Follows {
		weight = cells.Thick
	}
	switch marked := v.marked(m, k); {
	case marked && v.lit():
		style = &m.Palette.Moving
	case v.lit():
		style = &m.Palette.Faint
	case marked:
		style = &m.Palette.Text
	}
	for i, s := range k.Steps {
		begin := d.left[s.Layer] + d.width[s.Layer]
		track, end := begin+1+s.Track, d.left[s.Layer+1]-1
		if i == 0 {
			l.Arm(begin, d.rowAt(s.In), cells.ArmLeft, weight, style)
		}
		if s.In == s.Out {
			l.Across(d.rowAt(s.In), begin, end, weight, style)
		} else {
			l.Across(d.rowAt(s.In), begin, track, weight, style)
			l.Along(track, d.rowAt(s.In), d.rowAt(s.Out), weight, style)
			l.Across(d.rowAt(s.Out), track, end, weight, style)
		}
		if i+1 < len(k.Steps) { // it passes the next layer
			l.Across(d.rowAt(s.Out), end, end+d.width[s.Layer+1]+1, weight, style)
		} else {
			l.Arm(end, d.rowAt(s.Out), cells.ArmRight, weight, style)
		}
	}
}

// drawBox draws a unit: its name, its texture and its state.
func (v *mapView) drawBox(m *view.Model, l *cells.Linework, b timeline.Box) {
	d := &v.drawn
	u := b.Units[0]
	x, y, width := d.left[b.Layer], d.rowAt(b.Row), d.width[b.Layer]
	name, state := v.boxText(b)
	nameStyle, stateStyle, frame := m.UnitStyle(u.Name), m.Palette.ToneStyle(u.Tone()), m.Palette.Dim
	if len(b.Units) > 1 {
		nameStyle = m.Palette.Text
	}
	switch {
	case v.stands(m, u.Name):
		nameStyle, stateStyle, frame = nameStyle.Bold(true), m.Palette.Moving, m.Palette.Moving
	case v.lit():
		nameStyle, stateStyle, frame = m.Palette.Dim, m.Palette.Dim, m.Palette.Faint
	}
	weight := byte(cells.Thin)
	if b.Has(m.Selected) {
		nameStyle, frame, weight = nameStyle.Bold(true).Underline(true), m.Palette.Bright, cells.Thick
	}
	if d.pitch > 1 {
		end := y + d.pitch/2
		l.Across(y-1, x, x+width-1, weight, &frame)
		l.Across(end, x, x+width-1, weight, &frame)
		l.Along(x, y-1, end, weight, &frame)
		l.Along(x+width-1, y-1, end, weight, &frame)
	} else {
		side := map[byte]string{cells.Thin: "│", cells.Thick: "┃"}[weight]
		l.Write(x, y, side, &frame)
		l.Write(x+width-1, y, side, &frame)
	}
	glyph, texture := m.Palette.Texture(timeline.Cell{State: u.State, Stale: u.Freshness == api.Stale})
	if v.lit() && !v.stands(m, u.Name) {
		texture = m.Palette.Dim
	}
	l.Write(x+1, y, strings.Repeat(" ", width-2), &m.Palette.Text)
	if d.pitch == 5 {
		l.Write(x+2, y+1, boxMore(m, b), &m.Palette.Dim)
	}
	l.Write(x+2, y, name, &nameStyle)
	after := x + width - 2 - ansi.StringWidth(state)
	l.Write(after-3, y, glyph+glyph, &texture)
	l.Write(after, y, state, &stateStyle)
}

// follow scrolls until the selected unit is visible, and no further.
func (v *mapView) follow(m *view.Model, width, height int, l *cells.Linework) {
	d := &v.drawn
	for _, b := range d.Boxes {
		if !b.Has(m.Selected) {
			continue
		}
		x, y := d.left[b.Layer], b.Row*d.pitch
		d.x = max(min(d.x, x-1), x+d.width[b.Layer]+1-width)
		d.y = max(min(d.y, y), y+d.pitch-height)
	}
	d.x = max(0, min(d.x, l.Width-width))
	d.y = max(0, min(d.y, l.Height-height))
}

// pathField asks for a path: what would a save of it set off?
type pathField struct {
	view.Field
	of *mapView
}

func (v *mapView) askPath(m *view.Model) {
	f := &pathField{m.NewField(v, "path", "if I save  ", "a path; tab completes it", ""), v}
	f.Input.ShowSuggestions = true
	f.suggest(m)
	m.Open(f)
}

func (f *pathField) Update(m *view.Model, msg tea.Msg) {
	if f.Typed(m, msg) {
		f.suggest(m)
	}
}

// suggest offers the paths that begin with what is typed.
func (f *pathField) suggest(m *view.Model) {
	f.Input.SetSuggestions(m.PathsLike(f.Input.Value()))
}

// submit asks what a save of the path would set off.
func (f *pathField) submit(m *view.Model) {
	path := strings.TrimSpace(f.Input.Value())
	m.Close()
	if path == "" {
		return
	}
	f.of.ifSaved(m, path)
}

// ifSaved highlights what a save of a path would set off.
func (v *mapView) ifSaved(m *view.Model, path string) {
	v.asked, v.steps, v.answer = "if "+path+" were saved", nil, nil
	m.Later(func(ctx context.Context) view.Then {
		answer, err := m.Project.Why(ctx, path)
		if err != nil {
			return m.Report(err)
		}
		return func() { v.steps, v.answer = answer.Order, answer.Text }
	})
}

// Drawing implements view.Drawable.
func (*mapView) Drawing(m *view.Model) (string, func() (*draw.Page, error)) {
	snap, now := m.Snap, m.Now
	return "map", func() (*draw.Page, error) { return draw.Map(snap, now) }
}

// Bindings are those of the view, and of the field that asks for a path.
var Bindings = []view.Binding{
	{In: "map", Keys: []string{"up", "k"}, Name: "previous unit", Hint: "select", Group: view.GroupMap,
		Do: view.On(func(m *view.Model, v *mapView) { v.walk(m, 0, -1) })},
	{In: "map", Keys: []string{"down", "j"}, Name: "next unit", Group: view.GroupMap,
		Do: view.On(func(m *view.Model, v *mapView) { v.walk(m, 0, 1) })},
	{In: "map", Keys: []string{"left"}, Name: "go along a line to what it needs or follows", Group: view.GroupMap,
		Do: view.On(func(m *view.Model, v *mapView) { v.walk(m, -1, 0) })},
	{In: "map", Keys: []string{"right"}, Name: "go along a line to what needs or follows it", Group: view.GroupMap,
		Do: view.On(func(m *view.Model, v *mapView) { v.walk(m, 1, 0) })},
	{In: "map", Keys: []string{"/"}, Name: "if I save a path?", Hint: "if I save", Group: view.GroupMap,
		Do: view.On(func(m *view.Model, v *mapView) { v.askPath(m) })},
	{In: "map", Keys: []string{"v"}, Name: "what if the selected unit were restarted?", Hint: "if restarted",
		Group: view.GroupMap, Do: view.On(func(m *view.Model, v *mapView) { v.ifRestarted(m) })},
	{In: "map", Keys: []string{"enter"}, Name: "show the selected unit and its links, or all", Hint: "linked units",
		Group: view.GroupMap,
		Do:    view.On(func(_ *view.Model, v *mapView) { v.around = !v.around })},
	{In: "map", Keys: []string{"tab"}, Name: "members of the next group", Hint: "groups", Group: view.GroupMap,
		When:   func(m *view.Model) bool { return len(m.Snap.Project.Groups) > 0 },
		Unless: "there are no groups", Do: view.On(func(m *view.Model, v *mapView) { v.nextGroup(m) })},
	{In: "map", Keys: []string{"z"}, Name: "fold or unfold similar units", Group: view.GroupMap,
		Do: view.On(func(_ *view.Model, v *mapView) { v.unfold = !v.unfold })},
	{In: "map", Keys: []string{"esc"}, Name: "clear the question, or back to the lanes", Hint: "back",
		Group: view.GroupMap, Do: view.On(func(m *view.Model, v *mapView) {
			if !v.lit() {
				m.BackToLanes()
			}
			v.forget()
		})},
	{In: "map", Keys: []string{"q", "M"}, Name: "back to the lanes", Group: view.GroupMap, Do: (*view.Model).BackToLanes},
	{In: "path", Keys: []string{"enter"}, Name: "ask", Hint: "ask", Group: view.GroupField,
		Do: view.On(func(m *view.Model, f *pathField) { f.submit(m) })},
	{In: "path", Keys: []string{"esc", "ctrl+c"}, Name: "cancel", Hint: "cancel", Group: view.GroupField,
		Do: (*view.Model).Close},
}
