// Package unitview is the view of the selected unit in full: its state, runs, rules, processes, settings and output.
// Start reading at unitView.
package unitview

import (
	"cmp"
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/card"
	"omnivigil/internal/face/timeline"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/charts"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/overview"
	"omnivigil/internal/face/tui/panels"
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
	"omnivigil/internal/text/format"
)

// unitView is the selected unit in full: its state, its last runs, what it uses of the machine, its settings, and its
// output.
type unitView struct {
	why     panels.Explained
	detail  api.Detail
	before  api.Detail // the one before, for what processes have used since
	at, was time.Time  // when these were fetched
	run     int        // the unit's newest run then
	asking  bool
	problem string
	top     int
	output  *stream.Stream
}

// detailPause is how often the details of a unit are fetched.
const detailPause = 2 * time.Second

func Show(m *view.Model) {
	v := &unitView{output: stream.New(stream.Beyond{Last: overview.BackToNow})}
	v.output.Fixed = true
	m.Show(v)
}

func (*unitView) Name() string { return "unit" }

func (*unitView) Grabs(*view.Model) bool { return false }

// ShowsAxis makes the keys that zoom act.
func (*unitView) ShowsAxis() {}

// VisibleOutput is what the keys for output act on.
func (v *unitView) VisibleOutput() *stream.Stream { return v.output }

// Ask fetches the details of the selected unit when it is another, has run again, or after a pause.
func (v *unitView) Ask(m *view.Model) {
	m.Samples.Ask(m)
	u := m.SelectedUnit()
	if u == nil {
		return
	}
	if own := (query.Filter{{Field: query.Units, Units: []string{u.Name}}}); v.output.Filter.String() != own.String() {
		v.output.Filter, v.top = own, 0
	}
	if session := m.Session(); v.output.Session != session {
		v.output.Session = session
		v.output.ToNow()
	}
	v.output.Ask(m)
	v.why.Ask(m)
	if v.asking || v.detail.Unit == u.Name && v.run == u.Run.Number && m.Now.Sub(v.at) < detailPause {
		return
	}
	v.asking, v.run = true, u.Run.Number
	m.Later(func(ctx context.Context) view.Then {
		d, err := m.Project.Detail(ctx, u.Name)
		return func() {
			if v.asking = false; err != nil {
				v.detail, v.at, v.problem = api.Detail{Unit: u.Name}, m.Now, err.Error()
				return
			}
			v.before, v.was = v.detail, v.at
			v.detail, v.at, v.problem = d, m.Now, ""
		}
	})
}

func (v *unitView) Update(_ *view.Model, msg tea.Msg) {
	if msg, ok := msg.(tea.MouseWheelMsg); ok {
		v.top += view.Wheel(msg)
	}
}

func (v *unitView) Draw(m *view.Model, width, height int) []string {
	u := m.SelectedUnit()
	if u == nil {
		return view.Pad([]string{m.TitledRule("no unit selected", width)}, height, width)
	}
	rows := []string{m.TitledRule(fmt.Sprintf("%s  %s  %s", u.Name, u.Kind, lanes.StateWord(u)), width)}
	all := v.rows(m, u, width)
	room := max(min(height-len(rows)-max(height/3, 3)-1, len(all)), 1)
	v.top = max(0, min(v.top, len(all)-room))
	part := all[v.top:min(v.top+room, len(all))]
	for i := range part {
		part[i] = cells.Fit(part[i], width)
	}
	rows = append(rows, view.Pad(part, room, width)...)
	title := "output of " + u.Name
	if more := len(all) - v.top - len(part); more > 0 {
		title = fmt.Sprintf("%s (above: %d more lines, page down)", title, more)
	}
	rows = append(rows, m.TitledRule(title, width))
	return append(rows, v.output.Draw(m, width, height-len(rows))...)
}

// besideWidth is the width from which sections are side by side.
const besideWidth = 130

// rows are all sections.
func (v *unitView) rows(m *view.Model, u *api.Unit, width int) []string {
	left := [][]string{v.runs(m, u, min(width, max(width/2, besideWidth/2))), v.rules(m), v.processes(m)}
	right := [][]string{v.links(m, u), v.pages(m), v.outputs(m), v.observed(m), v.settings(m), v.environment(m)}
	rows := slices.Concat(v.now(m, u, width), v.use(m, u, width))
	if width < besideWidth {
		return append(rows, slices.Concat(slices.Concat(left...), slices.Concat(right...))...)
	}
	a, b := slices.Concat(left...), slices.Concat(right...)
	for i := range max(len(a), len(b)) {
		one, other := "", ""
		if i < len(a) {
			one = a[i]
		}
		if i < len(b) {
			other = b[i]
		}
		rows = append(rows, cells.Fit(one, width/2-1)+" "+other)
	}
	return rows
}

// use draws the CPU and memory of the unit, on the axis of the lanes.
func (v *unitView) use(m *view.Model, u *api.Unit, width int) []string {
	rows := []string{lanes.SavesRow(m, lanes.ColumnsOf(m), lanes.AxisOf(m))}
	for _, measure := range []timeline.Measure{timeline.CPU, timeline.Memory} {
		for _, g := range timeline.ChartOf(measure, m.Snap, &m.Samples.Series, lanes.AxisOf(m), m.Now) {
			if g.Name == u.Name {
				g.Name = string(measure)
				rows = append(rows, charts.GraphRows(m, measure, g, 2, width)...)
			}
		}
	}
	return append(rows, lanes.TimeRule(m, lanes.ColumnsOf(m), lanes.AxisOf(m), "", width))
}

// heading begins a section.
func heading(m *view.Model, text string) string { return m.Palette.Bright.Render("  " + text) }

// now is the state of the unit and the reason. Of a failure it is the beginning; the view that explains it has all.
func (v *unitView) now(m *view.Model, u *api.Unit, width int) []string {
	e := api.Explanation{Account: m.Snap.Account(u)}
	if v.why.Known(m) && !m.IsPast() {
		e = v.why.Explanation
	}
	rows := panels.CardRows(m, card.Brief(e, m.Snap.Project.Root), width)
	for _, problem := range []string{v.problem, v.why.Problem} {
		if problem != "" {
			rows = append(rows, "  "+m.Palette.Broken.Render(problem))
		}
	}
	return rows
}

// runs draws the durations of the last runs and passes.
func (v *unitView) runs(m *view.Model, u *api.Unit, width int) []string {
	const most = 8
	last := timeline.Runs(m.Snap, u.Name, most)
	if len(last) == 0 {
		return nil
	}
	longest := slices.MaxFunc(
		last,
		func(a, b timeline.Past) int { return cmp.Compare(a.Took, b.Took) },
	).Took.Duration().Seconds()
	rows := []string{heading(m, "last runs and their durations")}
	bar := max(width/4, 8)
	for _, p := range slices.Backward(last) {
		glyph, style, took := "█", m.Palette.Current, format.Duration(p.Took.Duration())
		switch {
		case p.Failed:
			glyph, style = "╱", m.Palette.Broken
		case p.Took == 0:
			took = "running"
		}
		drawn := cells.Fit(strings.Repeat(glyph, timeline.Level(p.Took.Duration().Seconds(), longest, bar)), bar)
		rows = append(
			rows,
			fmt.Sprintf(
				"  %-8s %s %11s %s %s",
				view.RunName(p.RunRef),
				m.Palette.Dim.Render(m.Moment(p.At)),
				took,
				style.Render(drawn),
				m.Palette.Dim.Render(p.Because),
			),
		)
	}
	return append(rows, "")
}

// rules lists the unit's patterns, and how many files match each.
func (v *unitView) rules(m *view.Model) []string {
	if len(v.detail.Rules) == 0 {
		return nil
	}
	rows := []string{heading(m, "files that affect it")}
	for _, r := range v.detail.Rules {
		count, style := format.Count(r.Files, "file"), m.Palette.Text
		switch {
		case r.Does == "nothing":
			count = ""
		case r.Files == 0:
			count, style = "no file", m.Palette.Stale
		}
		rows = append(
			rows,
			fmt.Sprintf("  %s %s  %s", cells.Fit(r.Pattern, 30), style.Render(cells.Fit(count, 10)),
				m.Palette.Dim.Render(r.Does)),
		)
		if len(r.Some) > 0 {
			text := strings.Join(r.Some, " ")
			if r.Files > len(r.Some) {
				text += " …"
			}
			rows = append(rows, "      "+m.Palette.Dim.Render(text))
		}
	}
	if len(v.detail.Ignored) > 0 {
		rows = append(rows, "  "+m.Palette.Dim.Render("ignored: "+strings.Join(v.detail.Ignored, " ")))
	}
	return append(rows, "")
}

// processes lists the unit's processes as a tree, with what each uses.
func (v *unitView) processes(m *view.Model) []string {
	all := v.detail.Processes
	if len(all) == 0 {
		return nil
	}
	rows := []string{heading(m, "processes"), m.Palette.Dim.Render("      pid       cpu    memory  since     command")}
	depth := map[int]int{}
	for _, p := range all {
		if d, known := depth[p.Parent]; known {
			depth[p.PID] = d + 1
		} else {
			depth[p.PID] = 0
		}
		rows = append(rows, fmt.Sprintf("  %7d  %8s %9s  %s  %s%s", p.PID, v.share(p), format.Bytes(float64(p.Memory)),
			m.Palette.Dim.Render(m.Moment(p.Since)), strings.Repeat("  ", depth[p.PID]), p.Command))
	}
	return append(rows, "")
}

// share is the part of a core that a process has used since the last look, or since its start.
func (v *unitView) share(p api.ProcessUse) string {
	used, passed := p.CPUTime.Duration(), v.at.Sub(p.Since)
	for _, b := range v.before.Processes {
		if b.PID == p.PID && v.before.Unit == v.detail.Unit {
			used, passed = p.CPUTime.Duration()-b.CPUTime.Duration(), v.at.Sub(v.was)
		}
	}
	if passed <= 0 {
		return ""
	}
	return format.Percent(used.Seconds() / passed.Seconds())
}

// links lists addresses, needs, followers and groups.
func (v *unitView) links(m *view.Model, u *api.Unit) []string {
	var rows []string
	add := func(name string, words []string) {
		if len(words) > 0 {
			rows = append(rows, "  "+m.Palette.Dim.Render(cells.Fit(name, 12))+strings.Join(words, "  "))
		}
	}
	var addresses []string
	for _, a := range m.Snap.Uses[u.Name].Addresses {
		addresses = append(addresses, a.String())
	}
	var needed, followed, groups []string
	for _, o := range m.Snap.Units {
		if slices.Contains(o.Needs, u.Name) {
			needed = append(needed, o.Name)
		}
		if slices.Contains(o.Follows, u.Name) {
			followed = append(followed, o.Name)
		}
	}
	for name, units := range m.Snap.Project.Groups {
		if slices.Contains(units, u.Name) {
			groups = append(groups, name)
		}
	}
	slices.Sort(groups)
	add("listens on", addresses)
	add("needs", u.Needs)
	add("follows", u.Follows)
	add("needed by", needed)
	add("followed by", followed)
	add("in groups", groups)
	if len(rows) == 0 {
		return nil
	}
	return append(rows, "")
}

// pages lists the pages in browsers that are connected to a relay.
func (v *unitView) pages(m *view.Model) []string {
	if len(v.detail.Pages) == 0 {
		return nil
	}
	rows := []string{heading(m, "open pages")}
	for _, p := range v.detail.Pages {
		when := "since " + format.Moment(p.Since, m.Now)
		if !p.RefreshedAt.IsZero() {
			when = "refreshed " + format.Moment(p.RefreshedAt, m.Now)
		}
		rows = append(rows, "  "+cells.Fit(p.Browser, 14)+" "+cells.Fit(p.Path, 24)+" "+m.Palette.Dim.Render(when))
	}
	return append(rows, "")
}

// outputs lists the unit's outputs and their sizes.
func (v *unitView) outputs(m *view.Model) []string {
	if len(v.detail.Outputs) == 0 {
		return nil
	}
	rows := []string{heading(m, "outputs")}
	for _, o := range v.detail.Outputs {
		rows = append(
			rows,
			fmt.Sprintf(
				"  %s %s  %s",
				cells.Fit(o.Pattern, 30),
				cells.Fit(format.Count(o.Files, "file"), 10),
				format.Bytes(float64(o.Size)),
			),
		)
	}
	if text := sizesText(v.detail.Sizes); text != "" {
		rows = append(rows, "  "+m.Palette.Dim.Render(text))
	}
	return append(rows, "")
}

// observed shows what the unit was seen to do, and how its settings differ from that.
func (v *unitView) observed(m *view.Model) []string {
	if v.detail.Observed == nil {
		return nil
	}
	rows := []string{heading(m, "observed")}
	rows = append(rows, panels.ActivityRows(m, *v.detail.Observed)...)
	return append(append(rows, panels.MismatchRows(m, v.detail.Mismatches)...), "")
}

// sizesText compares the outputs of the last two runs.
func sizesText(all []api.MadeByRun) string {
	if len(all) < 2 {
		return ""
	}
	was, is := all[len(all)-2], all[len(all)-1]
	change := "the same"
	switch by := is.Size - was.Size; {
	case by > 0:
		change = format.Bytes(float64(by)) + " more"
	case by < 0:
		change = format.Bytes(float64(-by)) + " less"
	}
	return fmt.Sprintf(
		"run %d: %s, run %d: %s, %s",
		was.Run,
		format.Bytes(float64(was.Size)),
		is.Run,
		format.Bytes(float64(is.Size)),
		change,
	)
}

// settingsName is the name of a settings file, relative to the project's directory.
func settingsName(m *view.Model, file string) string {
	if rel, err := filepath.Rel(m.Snap.Project.Root, file); err == nil && file != "" {
		return filepath.ToSlash(rel)
	}
	return file
}

// settings lists the unit's settings.
func (v *unitView) settings(m *view.Model) []string {
	if len(v.detail.Settings) == 0 {
		return nil
	}
	title := "settings"
	if v.detail.Line > 0 {
		title += m.Palette.Dim.Render(fmt.Sprintf("  %s, line %d", settingsName(m, v.detail.File), v.detail.Line))
	}
	rows := []string{heading(m, title)}
	for _, s := range v.detail.Settings {
		rows = append(rows, "  "+m.Palette.Dim.Render(cells.Fit(s.Name, 12))+s.Text)
	}
	return append(rows, "")
}

// environment lists the variables that the project sets for the unit.
func (v *unitView) environment(m *view.Model) []string {
	if len(v.detail.Variables) == 0 {
		return nil
	}
	rows := []string{heading(m, "environment, in addition to the system's")}
	for _, e := range v.detail.Variables {
		value := e.Value
		if e.Secret {
			value = m.Palette.Dim.Render("secret, not shown")
		}
		rows = append(
			rows,
			"  "+cells.Fit(
				e.Name,
				max(ansi.StringWidth(e.Name), 18),
			)+" "+cells.Fit(
				value,
				max(ansi.StringWidth(value), 24),
			)+" "+m.Palette.Dim.Render(
				"from "+e.From,
			),
		)
	}
	return append(rows, "")
}

// Bindings are those of the view.
var Bindings = []view.Binding{
	{In: "unit", Keys: []string{"pgdown", "space"}, Name: "scroll down", Hint: "scroll down", Group: view.GroupUnitView,
		Do: view.On(func(_ *view.Model, v *unitView) { v.top += 10 })},
	{In: "unit", Keys: []string{"pgup"}, Name: "scroll up", Group: view.GroupUnitView,
		Do: view.On(func(_ *view.Model, v *unitView) { v.top -= 10 })},
	{In: "unit", Keys: []string{"home", "g"}, Name: "to the beginning", Group: view.GroupUnitView,
		Do: view.On(func(_ *view.Model, v *unitView) { v.top = 0 })},
	{In: "unit", Keys: []string{"esc", "q", "U"}, Name: "back to the lanes", Hint: "back", Group: view.GroupUnitView,
		Do: (*view.Model).BackToLanes},
}
