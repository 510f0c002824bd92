// Package results has the views of tests and of findings, and moves between the locations that these name. Start
// reading at tests and findings.
package results

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/lanes"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/text/format"
)

// tests is the view of suites and their tests: the progress of the suites, the tests with their last results, and all
// about the selected one.
type tests struct {
	list   view.List[api.Case]
	only   int // index into testKinds
	marked map[testKey]bool
	whole  api.Case // the selected one, with its output
	days   testDays // of the selected one
	asked  testKey
	of     int    // the version of the results that it is from
	scroll int    // of the output of the selected one
	room   int    // the rows of the list, as last drawn
	before string // the unit that was selected in the lanes
}

// testKey identifies a test.
type testKey struct{ unit, suite, name string }

func keyOf(c api.Case) testKey { return testKey{c.Unit, c.Suite, c.Name} }

// testKinds are the filters of the list, in the order of the key.
var testKinds = []struct{ only, words string }{
	{
		"",
		"all tests",
	},
	{"failing", "failing tests"},
	{"new", "newly failing tests"},
	{"flaky", "flaky tests"},
	{"slow", "slow tests"},
	{"skipped", "skipped tests"},
}

func showTests(m *view.Model) {
	t := &tests{marked: map[testKey]bool{}, before: m.Selected}
	t.list = view.List[api.Case]{
		Same: func(a, b api.Case) bool { return keyOf(a) == keyOf(b) },
		Fetch: func(ctx context.Context, p api.Record, q api.ResultQuery) ([]api.Case, int, error) {
			page, err := p.Cases(ctx, q)
			return page.Cases, page.Total, err
		},
	}
	m.Show(t)
}

// Closed restores the selection of the lanes: in this view, the unit of the selected test was selected.
func (t *tests) Closed(m *view.Model) { m.Selected = t.before }

func (*tests) Name() string { return "tests" }

func (*tests) Grabs(*view.Model) bool { return false }

func (t *tests) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseWheelMsg:
		t.list.Move(view.Wheel(msg))
	case tea.MouseClickMsg:
		from, _ := t.list.Window(t.room)
		if row := msg.Y - m.BodyTop - len(t.suites(m)) - 1; row >= 0 && row < t.room {
			t.list.At = min(from+row, max(t.list.Total-1, 0))
		}
	}
}

// Ask implements view.Asker.
func (t *tests) Ask(m *view.Model) {
	v := resultsVersion(m)
	t.list.Query.Only = testKinds[t.only].only
	t.list.Ask(m, v)
	c, ok := t.list.Selected()
	if ok {
		t.days.ask(m, keyOf(c))
	}
	if !ok || keyOf(c) == t.asked && t.of == v {
		return
	}
	if keyOf(c) != t.asked {
		t.scroll = 0
	}
	t.asked, t.of = keyOf(c), v
	key := t.asked
	m.Selected = c.Unit
	if m.IsPast() { // more is not kept of it
		t.whole = c
		return
	}
	m.Later(func(ctx context.Context) view.Then {
		whole, err := m.Project.Case(ctx, key.unit, api.CaseName{Suite: key.suite, Name: key.name})
		if err != nil {
			whole = c // it was removed in the meantime
		}
		return func() {
			if key == t.asked {
				t.whole = whole
			}
		}
	})
}

func (t *tests) Draw(m *view.Model, width, height int) []string {
	suites := t.suites(m)
	rows := make([]string, 0, height)
	for _, u := range suites {
		rows = append(rows, cells.Fit(t.suiteRow(m, u), width))
	}
	rows = append(rows, m.TitledRule(t.listTitle(), width))
	left := height - len(rows)
	t.room = max(left*11/20, 3)
	if t.list.Total > 0 && t.list.Total < t.room {
		t.room = t.list.Total
	}
	if t.list.Total == 0 {
		rows = append(rows, cells.Fit(m.Palette.Dim.Render("  "+t.nothing(m)), width))
		return view.Pad(rows, height, width)
	}
	from, end := t.list.Window(t.room)
	for i := from; i < end; i++ {
		rows = append(rows, t.row(m, i, width))
	}
	if c, ok := t.list.Selected(); ok {
		rows = append(rows, m.TitledRule(t.title(m, c), width))
		rows = append(rows, t.detail(m, c, width, height-len(rows))...)
	}
	return view.Pad(rows, height, width)
}

// suites are the units that have tests: those with failures first, then those that are running. On a small screen there
// are few.
func (t *tests) suites(m *view.Model) []*api.Unit {
	var units []*api.Unit
	for _, u := range m.Snap.Units {
		if u.Report.Cases > 0 || u.Kind == "suite" {
			units = append(units, u)
		}
	}
	rank := func(u *api.Unit) int {
		switch {
		case u.State.Broken() || u.Report.Failed > 0:
			return 0
		case u.State == api.Running:
			return 1
		}
		return 2
	}
	slices.SortStableFunc(units, func(a, b *api.Unit) int { return rank(a) - rank(b) })
	return units[:min(len(units), max(m.Height/8, 3))]
}

// barWidth is the width of the progress bar.
const barWidth = 24

// suiteRow is the progress of a suite or, after its run, the result.
func (t *tests) suiteRow(m *view.Model, u *api.Unit) string {
	name := m.UnitStyle(u.Name).Render(cells.Fit(u.Name, lanes.ColumnsOf(m).Name))
	row := "  " + name + " " + m.Palette.ToneStyle(u.Tone()).Render(cells.Fit(lanes.StateWord(u), 10)) + " "
	r := u.Report
	if u.State == api.Running && r.Run == u.Run.Number {
		row += progressBar(m, r, barWidth) + " " + m.Palette.Text.Render(progressText(r))
		if left := r.Left(u.Run.OrderedAt, m.Now); left > 0 && r.Ran < max(r.Expected, r.Cases) {
			row += m.Palette.Dim.Render("  about " + roughly(left) + " left")
		}
		if r.FailedNow > 0 {
			row += "  " + m.Palette.Broken.Render(fmt.Sprintf("%d failing", r.FailedNow))
		}
		if r.Running != "" {
			row += "  " + m.Palette.Dim.Render(r.Running)
		}
		return row
	}
	text := r.Text
	if text == "" {
		text = "no tests yet"
	}
	row += m.Palette.Text.Render(text)
	if u.Narrowed != "" {
		row += "  " + m.Palette.Stale.Render("narrowed to "+u.Narrowed)
	}
	return row
}

// roughly is an estimated duration.
func roughly(d time.Duration) string {
	if d < 2*time.Minute {
		return fmt.Sprintf("%.0f s", max(d.Seconds(), 1))
	}
	return fmt.Sprintf("%.0f min", d.Minutes())
}

func progressText(r api.Report) string {
	if r.Expected < r.Ran || r.Expected == 0 {
		return format.Count(r.Ran, "test")
	}
	return fmt.Sprintf("%d of %d", r.Ran, r.Expected)
}

// progressBar draws the progress of a run, in the textures of the lanes.
func progressBar(m *view.Model, r api.Report, width int) string {
	done := width
	if r.Expected > 0 {
		done = min(width*r.Ran/max(r.Expected, r.Ran, 1), width)
	}
	left := m.Palette.Faint.Render(strings.Repeat("·", width-done))
	return m.Palette.Moving.Render(strings.Repeat("█", done)) + left
}

func (t *tests) listTitle() string {
	text := testKinds[t.only].words
	if t.list.Query.Text != "" {
		text += fmt.Sprintf(" with %q", t.list.Query.Text)
	}
	if t.list.Total > 0 {
		text += fmt.Sprintf(", %d of %d", t.list.At+1, t.list.Total)
	}
	if n := len(t.marked); n > 0 {
		text += ", " + fmt.Sprint(n) + " marked"
	}
	return text
}

func (t *tests) nothing(m *view.Model) string {
	switch {
	case !t.list.Loaded:
		return "reading"
	case t.list.Query.Text != "" || t.only > 0:
		return "no such tests; o changes the filter"
	case len(t.suites(m)) == 0:
		return "no tests yet: results are read from a suite's output, see docs/settings.md"
	}
	return "no tests yet"
}

// stripWidth is how many of a test's last results are shown.
const stripWidth = 12

// row is a test in the list.
func (t *tests) row(m *view.Model, number, width int) string {
	c, ok := t.list.Row(number)
	if !ok {
		return cells.Fit("", width)
	}
	mark := "  "
	switch {
	case number == t.list.At:
		mark = m.Palette.Bright.Render("▸ ")
	case t.marked[keyOf(c)]:
		mark = m.Palette.Bright.Render("◆ ")
	}
	word, style := testWord(m, c)
	name := m.Palette.Text.Render(c.Title())
	if number == t.list.At {
		name = m.Palette.Bright.Render(c.Title())
	}
	right := ""
	if width >= 100 {
		right = m.Palette.Dim.Render(ansi.Truncate(suiteShort(c), max(width/4, 10), "…")) + " "
	}
	if width >= 70 {
		right += m.Palette.Dim.Render(fmt.Sprintf("%9s ", tookText(c)))
	}
	return cells.Ends(mark+style.Render(cells.Fit(word, 15))+stripOf(m, c.Past)+"  "+name, right, width)
}

func tookText(c api.Case) string {
	switch {
	case c.Cached:
		return "cached"
	case c.Took == 0:
		return ""
	case c.Took.Duration() < 100*time.Millisecond:
		return fmt.Sprintf("%.1f ms", float64(c.Took.Duration().Microseconds())/1000)
	}
	return format.Duration(c.Took.Duration())
}

// suiteShort is the short name of a suite: the end of its path.
func suiteShort(c api.Case) string {
	if c.Name == "" {
		return ""
	}
	if i := strings.LastIndexByte(strings.TrimRight(c.Suite, "/"), '/'); i >= 0 && strings.Count(c.Suite, "/") > 1 {
		return c.Suite[i+1:]
	}
	return c.Suite
}

// testWord is the state of a test, in a word and its color.
func testWord(m *view.Model, c api.Case) (string, lipgloss.Style) {
	switch {
	case c.Change == api.NewlyFailing:
		return "newly failing", m.Palette.Broken.Bold(true)
	case c.Status == api.CaseFailed && c.Flaky:
		return "failing, flaky", m.Palette.Broken
	case c.Status == api.CaseFailed:
		return "failing", m.Palette.Broken
	case c.Flaky:
		return "flaky", m.Palette.Stale
	case c.Change == api.NewlyPassing:
		return "fixed", m.Palette.Current.Bold(true)
	case c.Slow:
		return "slow", m.Palette.Stale
	case c.Status == api.CaseSkipped:
		return "skipped", m.Palette.Dim
	}
	return "passed", m.Palette.Current
}

// stripOf draws the last results of a test, the newest at the right, in the textures of the lanes.
func stripOf(m *view.Model, past []api.PastResult) string {
	past = past[max(0, len(past)-stripWidth):]
	var b strings.Builder
	b.WriteString(strings.Repeat(" ", stripWidth-len(past)))
	for _, p := range past {
		switch {
		case p.Both:
			b.WriteString(m.Palette.Stale.Render("┄"))
		case p.Status == api.CaseFailed:
			b.WriteString(m.Palette.Broken.Render("╱"))
		case p.Status == api.CaseSkipped:
			b.WriteString(m.Palette.Dim.Render("·"))
		default:
			b.WriteString(m.Palette.Current.Render("─"))
		}
	}
	return b.String()
}

func (t *tests) title(m *view.Model, c api.Case) string {
	title := c.Title()
	if c.Name != "" && c.Suite != "" {
		title += "  " + c.Suite
	}
	if c.File != "" {
		title += "  " + strings.TrimSuffix(c.From(m.Snap.Project.Root).Text(), ": ")
	}
	return title
}

// detail is all about a test: why it failed, what was expected, its output.
func (t *tests) detail(m *view.Model, c api.Case, width, height int) []string {
	if t.asked == keyOf(c) && keyOf(t.whole) == t.asked {
		c = t.whole
	}
	var rows []string
	add := func(style lipgloss.Style, text string) {
		rows = append(rows, cells.Fit("  "+style.Render(view.Stops(text)), width))
	}
	if c.Status == api.CaseFailed && c.Message != "" {
		for line := range strings.SplitSeq(c.Message, "\n") {
			add(m.Palette.Broken, line)
		}
	} else if c.Message != "" {
		add(m.Palette.Dim, c.Message)
	}
	if c.Want != "" || c.Got != "" {
		want, got := compared(m, c.Want, c.Got)
		rows = append(
			rows,
			"",
			cells.Fit("  "+m.Palette.Dim.Render("expected  ")+want, width),
			cells.Fit("  "+m.Palette.Dim.Render("was       ")+got, width),
		)
	}
	switch {
	case c.Flaky:
		add(m.Palette.Stale, "flaky: its result changed without a change that affects it")
	case c.Slow:
		add(m.Palette.Stale, "slow: "+tookText(c)+", much longer than before")
	}
	if t.days.of == keyOf(c) {
		rows = append(rows, t.days.rows(m, width)...)
	}
	if len(c.Output) > 0 {
		rows = append(rows, "")
		for _, line := range c.Output {
			add(m.Palette.Text, line)
		}
	}
	if c.Status == api.CasePassed && len(rows) == 0 {
		add(m.Palette.Dim, "passed"+within(c))
	}
	t.scroll = max(0, min(t.scroll, len(rows)-height))
	rows = rows[t.scroll:]
	if over := len(rows) - height; over > 0 && height > 0 {
		rows = rows[:height]
		rows[height-1] = cells.Fit(m.Palette.Dim.Render(fmt.Sprintf("  %d more lines: page down", over+1)), width)
	}
	for i := range rows {
		rows[i] = cells.Fit(rows[i], width)
	}
	return rows
}

func within(c api.Case) string {
	if c.Took == 0 {
		return ""
	}
	return " in " + tookText(c)
}

// compared highlights the difference of two values: everything between their common beginning and end.
func compared(m *view.Model, want, got string) (string, string) {
	a, b := []rune(want), []rune(got)
	begin := 0
	for begin < len(a) && begin < len(b) && a[begin] == b[begin] {
		begin++
	}
	end := 0
	for end < len(a)-begin && end < len(b)-begin && a[len(a)-1-end] == b[len(b)-1-end] {
		end++
	}
	mark := func(text []rune, style lipgloss.Style) string {
		return m.Palette.Text.Render(
			string(text[:begin]),
		) + style.Bold(
			true,
		).Underline(
			true,
		).Render(
			string(text[begin:len(text)-end]),
		) + m.Palette.Text.Render(
			string(text[len(text)-end:]),
		)
	}
	return mark(a, m.Palette.Current), mark(b, m.Palette.Broken)
}

// narrowTo narrows the units of some tests to these.
func narrowTo(m *view.Model, cases []api.Case) {
	byUnit := map[string][]api.CaseName{}
	for _, c := range cases {
		byUnit[c.Unit] = append(byUnit[c.Unit], api.CaseName{Suite: c.Suite, Name: c.Name})
	}
	for unit, names := range byUnit {
		m.Send(api.Request{Action: api.Narrow, Units: []string{unit}, Cases: names})
	}
}

// run narrows to the marked tests or, without any, to the selected one.
func (t *tests) run(m *view.Model) {
	if len(t.marked) > 0 {
		var cases []api.Case
		for key := range t.marked {
			cases = append(cases, api.Case{Unit: key.unit, Suite: key.suite, Name: key.name})
		}
		clear(t.marked)
		narrowTo(m, cases)
		return
	}
	if c, ok := t.list.Selected(); ok {
		narrowTo(m, []api.Case{c})
	}
}

// runFile narrows to all tests in the suite or the file of the selected one.
func (t *tests) runFile(m *view.Model) {
	c, ok := t.list.Selected()
	if !ok {
		return
	}
	m.Act(func(ctx context.Context) view.Then {
		page, err := m.Project.Cases(ctx, api.ResultQuery{Units: []string{c.Unit}, Count: api.MaxLines})
		if err != nil {
			return m.Report(err)
		}
		r := api.Request{Action: api.Narrow, Units: []string{c.Unit}}
		for _, other := range page.Cases {
			if other.Suite == c.Suite && (c.Suite != "" || topLevel(other) == topLevel(c)) && other.Name != "" {
				r.Cases = append(r.Cases, api.CaseName{Suite: other.Suite, Name: other.Name})
			}
		}
		_, err = m.Project.Do(ctx, r)
		return m.Report(err)
	})
}

// topLevel is the first level of a test's name. It groups the tests of runners that report no suite.
func topLevel(c api.Case) string {
	top, _, _ := strings.Cut(c.Name, "/")
	return top
}

// runFailing narrows the selected test's unit to its failing tests.
func (t *tests) runFailing(m *view.Model) {
	if c, ok := t.list.Selected(); ok {
		m.Send(api.Request{Action: api.Narrow, Units: []string{c.Unit}, Failing: true})
	}
}

// mark marks the selected test, or removes its mark.
func (t *tests) mark(*view.Model) {
	c, ok := t.list.Selected()
	switch {
	case !ok:
	case t.marked[keyOf(c)]:
		delete(t.marked, keyOf(c))
	default:
		t.marked[keyOf(c)] = true
	}
	t.list.Move(1)
}

// next applies the next filter.
func (t *tests) next(*view.Model) {
	t.only = (t.only + 1) % len(testKinds)
	t.list.At = 0
}

func (t *tests) edit(m *view.Model) {
	if c, ok := t.list.Selected(); ok {
		m.OpenLocation(c.Location)
	}
}

// seekField asks for a part of the names of tests, or of findings.
type seekField struct {
	view.Field
	list   interface{ Seek(text string) }
	before string
}

// seekIn opens a field over a view; the list shows only what contains the text typed.
func seekIn(m *view.Model, below view.View, prompt, what string, list interface{ Seek(text string) }, text string) {
	m.Open(&seekField{m.NewField(below, "seek", prompt, what, text), list, text})
}

func (t *tests) find(m *view.Model) {
	seekIn(m, t, "tests with  ", "a part of a name", &t.list, t.list.Query.Text)
}

func (f *seekField) Update(m *view.Model, msg tea.Msg) {
	if f.Typed(m, msg) {
		f.list.Seek(f.Input.Value())
	}
}

func (f *seekField) cancel(m *view.Model) {
	f.list.Seek(f.before)
	m.Close()
}
