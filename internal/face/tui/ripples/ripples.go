// Package ripples is the view of ripples: what each save set off, with a waterfall of the selected ripple's runs. Start
// reading at ripples.
package ripples

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/draw"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// ripples is the view of ripples, the newest first, with the selected one as a waterfall.
type ripples struct {
	chosen  int // the number of the selected ripple; 0: always the newest
	bar     int // the index of its selected run
	compare bool
	failing map[runKey]string // the line that tells why a run failed; empty: it is being fetched

	earlier earlier
	output  *stream.Stream // of the selected ripple
	hasRoom bool           // for the output, as last drawn

	listTop, barTop int // the first rows of both parts on the screen
	first, firstBar int // the first ripple and run in them
}

// runKey is a run or a pass.
type runKey struct {
	unit      string
	run, pass int
}

// Show shows the newest ripple, ShowNumber the one with a number.
func Show(m *view.Model) { ShowNumber(m, 0) }

func ShowNumber(m *view.Model, number int) {
	output := stream.New(overview.BackToNow)
	output.Fixed = true
	m.Show(&ripples{
		chosen: number, failing: map[runKey]string{}, output: output,
		earlier: earlier{session: map[*api.Ripple]string{}, known: map[*api.Ripple]bool{}},
	})
}

func (*ripples) Name() string { return "ripples" }

func (*ripples) Grabs(*view.Model) bool { return false }

// VisibleOutput is what the keys for output act on.
func (v *ripples) VisibleOutput() *stream.Stream {
	if v.hasRoom {
		return v.output
	}
	return nil
}

// ripple returns the selected ripple; nil: there is none.
func (v *ripples) ripple(m *view.Model) *api.Ripple {
	if was := v.earlier.selected(); was != nil {
		return was
	}
	all := m.Snap.Ripples
	if len(all) == 0 {
		return nil
	}
	if r := m.Snap.Ripple(v.chosen); r != nil {
		return r
	}
	return all[len(all)-1]
}

// place is the row of the selected ripple in the list.
func (v *ripples) place(m *view.Model) int {
	if v.earlier.at > 0 {
		return len(m.Snap.Ripples) + v.earlier.at - 1
	}
	if r := v.ripple(m); r != nil {
		return len(m.Snap.Ripples) - 1 - slices.Index(m.Snap.Ripples, r)
	}
	return 0
}

// move selects another ripple. At the top the newest ripple stays selected when others come.
func (v *ripples) move(m *view.Model, by int) { v.choose(m, v.place(m)+by) }

func (v *ripples) choose(m *view.Model, place int) {
	n := len(m.Snap.Ripples)
	if n == 0 {
		return
	}
	place = max(0, min(place, n+len(v.earlier.all)-1))
	if v.earlier.at, v.bar = max(place-n+1, 0), 0; v.earlier.at > 0 {
		return
	}
	v.chosen, v.bar = m.Snap.Ripples[n-1-place].ID, 0
	if place == 0 {
		v.chosen = 0
	}
}

// moveBar selects another run of the ripple, and its unit.
func (v *ripples) moveBar(m *view.Model, by int) {
	r := v.ripple(m)
	if r == nil || len(r.Runs) == 0 {
		return
	}
	v.bar = max(0, min(v.bar+by, len(r.Runs)-1))
	m.Selected = r.Runs[v.bar].Unit
}

// run returns the selected run; nil: the ripple has none.
func (v *ripples) run(m *view.Model) *api.RunRef {
	r := v.ripple(m)
	if r == nil || len(r.Runs) == 0 {
		return nil
	}
	return r.Runs[min(v.bar, len(r.Runs)-1)]
}

// Ask fetches, for each failed run of the selected ripple, the line that tells why it failed.
func (v *ripples) Ask(m *view.Model) {
	r := v.ripple(m)
	if r == nil {
		return
	}
	v.earlier.ask(m, len(m.Snap.Ripples)+len(v.earlier.all)-v.place(m))
	if v.earlier.at > 0 { // its output is in another log
		return
	}
	if own := (query.Filter{{Field: query.Ripple, Number: r.ID}}); v.output.Filter.String() != own.String() {
		v.output.Filter = own
		v.output.ToNow()
	}
	v.output.Ask(m)
	for _, ref := range r.Runs {
		key := runKey{ref.Unit, ref.Number, ref.Pass}
		if _, asked := v.failing[key]; !ref.Failed || asked {
			continue
		}
		v.failing[key] = ""
		marked := api.LineQuery{Filter: fmt.Sprintf("unit=%s run=%d event=failure", ref.Unit, ref.Number), Count: 1}
		if len(ref.Spans) > 0 { // a pass is found by its time
			marked.Since = ref.Spans[0].From
		}
		m.Later(func(ctx context.Context) view.Then {
			page, err := m.Project.Lines(ctx, marked)
			if err == nil && len(page.Lines) == 0 {
				page, err = m.Project.Lines(ctx, api.LineQuery{Unit: ref.Unit, Run: ref.Number, Why: true, Count: 1})
			}
			if err != nil || len(page.Lines) == 0 {
				return m.Report(err)
			}
			return func() { v.failing[key] = strings.TrimSpace(escape.Strip(page.Lines[0].Text)) }
		})
	}
}

func (v *ripples) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseWheelMsg:
		v.move(m, view.Wheel(msg))
	case tea.MouseClickMsg:
		switch {
		case msg.Y >= v.barTop:
			v.bar = v.firstBar
			v.moveBar(m, msg.Y-v.barTop)
		case msg.Y >= v.listTop:
			v.choose(m, v.first+msg.Y-v.listTop)
		}
	}
}

func (v *ripples) Draw(m *view.Model, width, height int) []string {
	n, all := len(m.Snap.Ripples), len(m.Snap.Ripples)+len(v.earlier.all)
	rows := []string{
		m.TitledRule(fmt.Sprintf("ripples: what was set off, newest first, %d of %d", min(v.place(m)+1, all), all), width),
	}
	if n == 0 {
		return view.Pad(append(rows, cells.Fit(m.Palette.Dim.Render("  no ripples yet"), width)), height, width)
	}
	v.listTop = m.BodyTop + 1
	list, output := v.parts(m, height)
	v.hasRoom = output > 0 && !v.compare
	v.first = view.Windowed(v.place(m), all, list)
	for i := v.first; i < v.first+list; i++ {
		if i < n {
			rows = append(rows, v.row(m, m.Snap.Ripples[n-1-i], i == v.place(m), width))
		} else {
			rows = append(rows, v.row(m, v.earlier.all[i-n], i == v.place(m), width))
		}
	}
	r := v.ripple(m)
	rows = append(rows, m.TitledRule(rippleTitle(m, r), width))
	v.barTop = m.BodyTop + len(rows) + 1
	if v.compare {
		return view.Pad(append(rows, v.compared(m, r, width)...), height, width)
	}
	rows = append(rows, v.waterfall(m, r, width, height-len(rows)-output)...)
	if output > 0 {
		title := m.TitledRule(fmt.Sprintf("output of ripple %d", r.ID), width)
		rows = append(view.Pad(rows, height-output, width), title)
		rows = append(rows, v.output.Draw(m, width, output-1)...)
	}
	return view.Pad(rows, height, width)
}

// parts divides the height: the waterfall gets what it needs, then the output and the list share what is left. On a
// small screen there is no output.
func (v *ripples) parts(m *view.Model, height int) (list, output int) {
	const aroundWaterfall, least = 8, 12 // its rules, axis and what is told of the selected run
	n := len(m.Snap.Ripples) + len(v.earlier.all)
	rest := height - len(v.ripple(m).Runs) - aroundWaterfall
	if rest < least {
		return min(n, max(rest, (height-4)*2/5, 2)), 0
	}
	if list = min(n, rest/2); v.earlier.at > 0 {
		return list, 0
	}
	return list, rest - list
}

// row is a ripple in the list.
func (v *ripples) row(m *view.Model, r *api.Ripple, chosen bool, width int) string {
	mark, title := "  ", m.Palette.Text.Render(r.Title)
	if chosen {
		mark, title = m.Palette.Bright.Render("▸ "), m.Palette.Bright.Render(r.Title)
	}
	room := widest(m.Snap.Ripples, func(r *api.Ripple) time.Duration { return r.RestAt.Sub(r.Since) })
	took := m.Palette.Moving.Render(cells.Fit("running", room))
	if r.Resting() {
		took = cells.Fit(format.Duration(r.RestAt.Sub(r.Since)), room)
	}
	left := fmt.Sprintf(
		"%s%4d  %s  %s %s ",
		mark,
		r.ID,
		m.Palette.Dim.Render(v.moment(m, r)),
		m.Palette.ToneStyle(r.Outcome.Tone()).Render(cells.Fit(string(r.Outcome), 8)),
		took,
	)
	return cells.Ends(left+title, m.Palette.Dim.Render(unitsOf(r, max(width/3, 10))), width)
}

// moment is when a ripple began. Those of earlier sessions may have been on another day.
func (v *ripples) moment(m *view.Model, r *api.Ripple) string {
	if len(v.earlier.all) == 0 {
		return m.Moment(r.Since)
	}
	return cells.Fit(format.Moment(r.Since, m.Now), len("31 Dec 15:04"))
}

// unitsOf names the units that a ripple has run or, if there is no room, tells how many.
func unitsOf(r *api.Ripple, room int) string {
	var names []string
	for _, ref := range r.Runs {
		if !slices.Contains(names, ref.Unit) {
			names = append(names, ref.Unit)
		}
	}
	if text := strings.Join(names, " "); ansi.StringWidth(text) <= room {
		return text
	}
	return format.Count(len(names), "unit")
}

// rippleTitle tells what set off the ripple, how it ended, and which ripples took over from which.
func rippleTitle(m *view.Model, r *api.Ripple) string {
	parts := []string{fmt.Sprintf("ripple %d  %s", r.ID, r.Title)}
	switch {
	case !r.Resting():
		parts = append(parts, "running for "+format.Duration(m.Now.Sub(r.Since).Truncate(100*time.Millisecond)))
	case r.Detail != "":
		parts = append(
			parts,
			fmt.Sprintf("%s after %s: %s", r.Outcome, format.Duration(r.RestAt.Sub(r.Since)), r.Detail),
		)
	default:
		parts = append(parts, fmt.Sprintf("%s after %s", r.Outcome, format.Duration(r.RestAt.Sub(r.Since))))
	}
	if len(r.TookOver) > 0 {
		parts = append(parts, "took over "+numbers(r.TookOver))
	}
	if len(r.TakenBy) > 0 {
		parts = append(parts, "taken over by "+numbers(r.TakenBy))
	}
	return strings.Join(parts, "  ")
}

func numbers(of []int) string {
	words := make([]string, len(of))
	for i, n := range of {
		words[i] = fmt.Sprint(n)
	}
	return format.List(words)
}

// widest is the width of the longest of some durations, so that none is cut off.
func widest[T any](all []T, took func(T) time.Duration) int {
	width := len("running")
	for _, one := range all {
		width = max(width, len(format.Duration(took(one))))
	}
	return width
}

// fallColumns are the widths of a waterfall's parts.
type fallColumns struct{ unit, run, bar, took, why int }

func fallColumnsOf(r *api.Ripple, width int) fallColumns {
	c := fallColumns{took: 2 + widest(r.Runs, func(ref *api.RunRef) time.Duration { return ref.Took.Duration() })}
	for _, ref := range r.Runs {
		c.unit, c.run = max(c.unit, ansi.StringWidth(ref.Unit)), max(c.run, len(view.RunName(ref)))
	}
	c.unit = min(c.unit, max(8, width/6))
	if width < 80 {
		c.run = 0
	}
	rest := width - 2 - c.unit - 1 - c.run - 2 - c.took - 1
	if width >= 100 {
		c.why = rest * 9 / 20
	}
	c.bar = max(rest-c.why, 5)
	return c
}

// left is the column at which the bars begin.
func (c fallColumns) left() int { return 2 + c.unit + 1 + c.run + 1 }

// waterfall draws the ripple's runs below each other, and all about the selected one.
func (v *ripples) waterfall(m *view.Model, r *api.Ripple, width, height int) []string {
	if len(r.Runs) == 0 {
		return []string{cells.Fit(m.Palette.Dim.Render("  it set nothing off"), width)}
	}
	v.bar = min(v.bar, len(r.Runs)-1)
	c := fallColumnsOf(r, width)
	w := timeline.WaterfallOf(r, m.Now, c.bar)
	rows := []string{cells.Fit(strings.Repeat(" ", c.left())+elapsedRow(m, w.Axis), width)}
	foot := v.foot(m, &w.Bars[v.bar], width)
	room := max(height-1-len(foot), 1)
	v.firstBar = view.Windowed(v.bar, len(w.Bars), room)
	for i := v.firstBar; i < len(w.Bars) && len(rows)-1 < room; i++ {
		rows = append(rows, v.barRow(m, &w.Bars[i], c, i == v.bar, width))
	}
	if r.MoreRuns > 0 && len(rows)-1 < room {
		rows = append(
			rows,
			cells.Fit(m.Palette.Dim.Render(fmt.Sprintf("  and %s after these", format.Count(r.MoreRuns, "run"))),
				width),
		)
	}
	rows = view.Pad(rows, room+1, width)
	return append(rows, foot...)
}

// elapsedRow labels an axis with the time since its start.
func elapsedRow(m *view.Model, a timeline.Axis) string {
	s := cells.NewStrip(a.N, " ", &m.Palette.Dim)
	for _, d := range a.Elapsed(12) {
		column := a.At(a.Start.Add(d))
		if s.Write(column+1, format.Duration(d), &m.Palette.Dim) {
			s.Set(column, "╷", &m.Palette.Faint)
		}
	}
	return s.String()
}

// barRow draws one run.
func (v *ripples) barRow(m *view.Model, b *timeline.Bar, c fallColumns, chosen bool, width int) string {
	mark, name := "  ", m.UnitStyle(b.Unit).Render(cells.Fit(b.Unit, c.unit))
	if chosen {
		mark = m.Palette.Bright.Render("▸ ")
		name = m.UnitStyle(b.Unit).Bold(true).Render(cells.Fit(b.Unit, c.unit))
	}
	row := mark + name + " "
	if c.run > 0 {
		row += m.Palette.Dim.Render(cells.Fit(view.RunName(b.RunRef), c.run))
	}
	row += " " + textures(m, b.Cells) + " "
	took, style := "", m.Palette.Dim
	if !b.From.IsZero() {
		took = format.Duration(b.Took())
	}
	if b.Failed {
		style = m.Palette.Broken
	}
	row += style.Render(fmt.Sprintf("%*s", c.took-1, took))
	if c.why > 0 {
		text := v.whyOf(b)
		if line := v.failing[runKey{b.Unit, b.Number, b.Pass}]; b.Failed && line != "" {
			text, style = line, m.Palette.Broken
		}
		row += "  " + style.Render(cells.Fit(text, c.why-2))
	}
	return cells.Fit(row, width)
}

// textures draws cells of a lane.
func textures(m *view.Model, all []timeline.Cell) string {
	s := cells.NewStrip(len(all), " ", &m.Palette.Text)
	styles := map[timeline.Cell]*lipgloss.Style{}
	for i, c := range all {
		glyph, style := m.Palette.Texture(c)
		if styles[c] == nil {
			styles[c] = &style
		}
		s.Set(i, glyph, styles[c])
	}
	return s.String()
}

// whyOf tells in short why a run was ordered.
func (v *ripples) whyOf(b *timeline.Bar) string {
	if b.Pass > 0 {
		return "picks up changes by itself"
	}
	return cmp.Or(b.Because, "")
}

// foot tells about the selected run why it ran, what it waited for, where its time went, and why it failed.
func (v *ripples) foot(m *view.Model, b *timeline.Bar, width int) []string {
	said := m.UnitStyle(b.Unit).Render(b.Unit) + " " + view.RunName(b.RunRef)
	if why := v.whyOf(b); why != "" {
		said += m.Palette.Dim.Render(" because ") + why
	}
	var parts []string
	for _, w := range b.Waited {
		parts = append(parts, fmt.Sprintf("waited %s for %s", format.Duration(w.For), cmp.Or(w.On, "a job")))
	}
	for _, s := range b.Spans {
		if d := s.To.Sub(s.From); s.Phase != string(api.Waiting) && s.Phase != string(timeline.Queued) && d > 0 {
			parts = append(parts, strings.TrimSpace(s.Phase+" "+s.Step)+" "+format.Duration(d))
		}
	}
	if len(b.Spans) == 0 {
		parts = append(parts, "its spans are no longer kept")
	}
	rows := []string{
		m.TitledRule("", width),
		cells.Fit("  "+said, width),
		cells.Fit("  "+m.Palette.Dim.Render(strings.Join(parts, ", ")), width),
	}
	if line := v.failing[runKey{b.Unit, b.Number, b.Pass}]; b.Failed && line != "" {
		rows = append(rows, cells.Fit("  "+m.Palette.Broken.Render(line), width))
	}
	return rows
}

// compared shows where the time went, compared with an earlier ripple of the same files.
func (v *ripples) compared(m *view.Model, r *api.Ripple, width int) []string {
	e := timeline.Earlier(m.Snap.Ripples, r)
	switch {
	case !r.Resting():
		return []string{cells.Fit(m.Palette.Dim.Render("  still running: it can be compared when it is at rest"),
			width)}
	case e == nil:
		return []string{
			cells.Fit(m.Palette.Dim.Render("  there is no earlier ripple of the same files that is still known"),
				width),
		}
	}
	was, is := e.RestAt.Sub(e.Since), r.RestAt.Sub(r.Since)
	rows := []string{
		cells.Fit(
			fmt.Sprintf(
				"  compared with ripple %d of %s: %s then, %s now, %s",
				e.ID,
				format.Moment(e.Since, m.Now),
				format.Duration(was),
				format.Duration(is),
				slower(is-was),
			),
			width,
		),
		cells.Fit("", width),
	}
	all := timeline.Compare(e, r)
	if len(all) == 0 {
		return append(rows, cells.Fit(m.Palette.Dim.Render("  no difference"), width))
	}
	most := all[0].By().Abs()
	rows = append(
		rows,
		cells.Fit(m.Palette.Dim.Render(fmt.Sprintf("  %-16s %-10s %9s %9s  ", "unit", "part", "then", "now")), width),
	)
	for _, d := range all {
		style := m.Palette.Current
		if d.By() > 0 {
			style = m.Palette.Stale
		}
		const bar = 24
		rows = append(
			rows,
			cells.Fit(
				"  "+m.UnitStyle(
					d.Unit,
				).Render(
					cells.Fit(d.Unit, 16),
				)+fmt.Sprintf(
					" %-10s %9s %9s  ",
					d.Phase,
					format.Duration(d.Before),
					format.Duration(d.Now),
				)+
					style.Render(
						strings.Repeat(
							"█",
							timeline.Level(d.By().Abs().Seconds(), most.Seconds(), bar),
						)+" "+slower(
							d.By(),
						),
					),
				width,
			),
		)
	}
	return rows
}

// slower is the difference of two durations, in words.
func slower(by time.Duration) string {
	switch {
	case by.Abs() < 10*time.Millisecond:
		return "the same"
	case by < 0:
		return format.Duration(-by) + " faster"
	}
	return format.Duration(by) + " slower"
}

// inEarlierSession says where the output of a ripple of an earlier session is, if one is selected.
func (v *ripples) inEarlierSession(m *view.Model) bool {
	r := v.earlier.selected()
	if r != nil {
		m.Said = fmt.Sprintf("it was in an earlier session: omnivigil logs --session %s --only ripple=%d",
			v.earlier.session[r], r.ID)
	}
	return r != nil
}

// goToRun moves the time cursor to the start of the selected run.
func (v *ripples) goToRun(m *view.Model) {
	r := v.ripple(m)
	if r == nil || v.inEarlierSession(m) {
		return
	}
	at := r.Since
	if ref := v.run(m); ref != nil && len(ref.Spans) > 0 {
		at, m.Selected = ref.Spans[len(ref.Spans)-1].From, ref.Unit
	}
	m.BackToLanes()
	overview.GoTo(m, at)
}

// onlyOutput shows only the output of the selected ripple's runs.
func (v *ripples) onlyOutput(m *view.Model) {
	r := v.ripple(m)
	if r == nil || v.inEarlierSession(m) {
		return
	}
	m.BackToLanes()
	s := overview.Focused(m)
	s.Use(m, append(s.Filter.Without(query.Ripple), query.Term{Field: query.Ripple, Number: r.ID}))
	if r.Resting() {
		overview.GoTo(m, r.RestAt)
	}
}

// Drawing implements view.Drawable.
func (v *ripples) Drawing(m *view.Model) (string, func() (*draw.Page, error)) {
	r, name, now := v.ripple(m), m.Snap.Project.Name, m.Now
	if r == nil {
		return "ripple", nil
	}
	return "ripple", func() (*draw.Page, error) { return draw.Ripple(name, r, now, now) }
}

// Bindings are those of the view.
var Bindings = []view.Binding{
	{In: "ripples", Keys: []string{"up", "k"}, Name: "newer ripple", Hint: "select", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, -1) })},
	{In: "ripples", Keys: []string{"down", "j"}, Name: "older ripple", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, 1) })},
	{In: "ripples", Keys: []string{"shift+up"}, Name: "10 ripples forward", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, -10) })},
	{In: "ripples", Keys: []string{"shift+down"}, Name: "10 ripples back", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.move(m, 10) })},
	{In: "ripples", Keys: []string{"home", "g"}, Name: "newest ripple", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.choose(m, 0) })},
	{In: "ripples", Keys: []string{"end", "G"}, Name: "oldest known ripple", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.choose(m, len(m.Snap.Ripples)+len(v.earlier.all)) })},
	{In: "ripples", Keys: []string{"right"}, Name: "next run in the waterfall", Hint: "next run",
		Group: view.GroupRipples, Do: view.On(func(m *view.Model, v *ripples) { v.moveBar(m, 1) })},
	{In: "ripples", Keys: []string{"left"}, Name: "previous run in the waterfall",
		Group: view.GroupRipples,
		Do:    view.On(func(m *view.Model, v *ripples) { v.moveBar(m, -1) })},
	{In: "ripples", Keys: []string{"enter"}, Name: "go to the run's time in lanes and stream",
		Hint: "go to that time", Group: view.GroupRipples,
		Do: view.On(func(m *view.Model, v *ripples) { v.goToRun(m) })},
	{In: "ripples", Keys: []string{"^"}, Name: "show only this ripple's output", Hint: "only its output",
		Group: view.GroupRipples, Do: view.On(func(m *view.Model, v *ripples) { v.onlyOutput(m) })},
	{In: "ripples", Keys: []string{"tab"}, Name: "compare with an earlier ripple of the same files", Hint: "compare",
		Group: view.GroupRipples,
		Do:    view.On(func(_ *view.Model, v *ripples) { v.compare = !v.compare })},
	{In: "ripples", Keys: []string{"esc", "q", "R"}, Name: "back to the lanes", Hint: "back", Group: view.GroupRipples,
		Do: (*view.Model).BackToLanes},
}
