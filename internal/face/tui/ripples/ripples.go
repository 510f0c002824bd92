// Package ripples is the view of ripples: what each save set off, with a waterfall of the selected ripple's runs. Start
// reading at ripples.
package ripples

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
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
	lines   lines
	hasRoom bool // for the output, as last drawn

	listTop, barTop int // the first rows of both parts on the screen
	first, firstBar int // the first ripple and run in them
}

// runKey is a run or a pass.
type runKey struct {
	session   string // empty: the running one
	unit      string
	run, pass int
}

// Show shows the newest ripple, ShowNumber the one with a number.
func Show(m *view.Model) { ShowNumber(m, 0) }

func ShowNumber(m *view.Model, number int) {
	output := stream.New(stream.Beyond{Last: overview.BackToNow})
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
	all := m.Live.Ripples
	if len(all) == 0 {
		return nil
	}
	if r := m.Live.Ripple(v.chosen); r != nil {
		return r
	}
	return all[len(all)-1]
}

// place is the row of the selected ripple in the list.
func (v *ripples) place(m *view.Model) int {
	if v.earlier.at > 0 {
		return len(m.Live.Ripples) + v.earlier.at - 1
	}
	if r := v.ripple(m); r != nil {
		return len(m.Live.Ripples) - 1 - slices.Index(m.Live.Ripples, r)
	}
	return 0
}

// move selects another ripple. At the top the newest ripple stays selected when others come.
func (v *ripples) move(m *view.Model, by int) { v.choose(m, v.place(m)+by) }

func (v *ripples) choose(m *view.Model, place int) {
	n := len(m.Live.Ripples)
	if n == 0 {
		return
	}
	place = max(0, min(place, n+len(v.earlier.all)-1))
	if v.earlier.at, v.bar = max(place-n+1, 0), 0; v.earlier.at > 0 {
		return
	}
	v.chosen, v.bar = m.Live.Ripples[n-1-place].ID, 0
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
	v.earlier.ask(m, len(m.Live.Ripples)+len(v.earlier.all)-v.place(m))
	session := v.earlier.session[r]
	own := query.Filter{{Field: query.Ripple, Number: r.ID}}
	if v.output.Filter.String() != own.String() || v.output.Session != session {
		v.output.Filter, v.output.Session = own, session
		v.output.ToNow()
	}
	v.output.Ask(m)
	v.lines.ask(m, r, session)
	for _, ref := range r.Runs {
		key := runKey{session, ref.Unit, ref.Number, ref.Pass}
		if _, asked := v.failing[key]; !ref.Failed || asked {
			continue
		}
		v.failing[key] = ""
		marked := api.LineQuery{Filter: fmt.Sprintf("unit=%s run=%d event=failure", ref.Unit, ref.Number), Count: 1}
		if len(ref.Spans) > 0 { // a pass is found by its time
			marked.Since = ref.Spans[0].From
		}
		m.Later(func(ctx context.Context) view.Then {
			from, err := m.Record(ctx, session)
			if err != nil {
				return m.Report(err)
			}
			page, err := from.Lines(ctx, marked)
			if err == nil && len(page.Lines) == 0 {
				page, err = from.Lines(ctx, api.LineQuery{Unit: ref.Unit, Run: ref.Number, Why: true, Count: 1})
			}
			if err != nil || len(page.Lines) == 0 {
				return m.Report(err)
			}
			return func() { v.failing[key] = strings.TrimSpace(escape.Strip(page.Lines[0].Text)) }
		})
	}
}

// lineOf is the line that tells why a run of a ripple failed; empty: it is not known.
func (v *ripples) lineOf(m *view.Model, b *timeline.Bar) string {
	return v.failing[runKey{v.earlier.session[v.ripple(m)], b.Unit, b.Number, b.Pass}]
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
	n, all := len(m.Live.Ripples), len(m.Live.Ripples)+len(v.earlier.all)
	rows := []string{
		m.TitledRule(fmt.Sprintf("ripples: what was set off, newest first, %d of %d", min(v.place(m)+1, all), all), width),
	}
	if n == 0 {
		return view.Pad(append(rows, cells.Fit(m.Palette.Dim.Render("  no ripples yet"), width)), height, width)
	}
	v.listTop = m.BodyTop + 1
	list, output := v.parts(m, height)
	v.hasRoom = output > 0 && !v.compare && !v.lines.shown
	v.first = view.Windowed(v.place(m), all, list)
	for i := v.first; i < v.first+list; i++ {
		if i < n {
			rows = append(rows, v.row(m, m.Live.Ripples[n-1-i], i == v.place(m), width))
		} else {
			rows = append(rows, v.row(m, v.earlier.all[i-n], i == v.place(m), width))
		}
	}
	r := v.ripple(m)
	rows = append(rows, m.TitledRule(rippleTitle(m, r), width))
	v.barTop = m.BodyTop + len(rows) + 1
	if v.lines.shown {
		return view.Pad(append(rows, v.lines.draw(m, width, height-len(rows))...), height, width)
	}
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
	n := len(m.Live.Ripples) + len(v.earlier.all)
	rest := height - len(v.ripple(m).Runs) - aroundWaterfall
	if rest < least {
		return min(n, max(rest, (height-4)*2/5, 2)), 0
	}
	list = min(n, rest/2)
	return list, rest - list
}

// row is a ripple in the list.
func (v *ripples) row(m *view.Model, r *api.Ripple, chosen bool, width int) string {
	mark, title := "  ", m.Palette.Text.Render(r.Title)
	if chosen {
		mark, title = m.Palette.Bright.Render("▸ "), m.Palette.Bright.Render(r.Title)
	}
	room := widest(m.Live.Ripples, func(r *api.Ripple) time.Duration { return r.RestAt.Sub(r.Since) })
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
