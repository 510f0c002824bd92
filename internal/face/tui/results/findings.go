package results

import (
	"context"
	"fmt"
	"strings"

	tea "charm.land/bubbletea/v2"
	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"
)

// findings is the view of findings: what tools report, with the source and the output around the selected one.
type findings struct {
	list   view.List[api.Finding]
	only   int // index into findingKinds
	source source
	output output
	room   int
	// hasRoom: the output was shown when last drawn.
	hasRoom bool
	before  string // the unit that was selected in the lanes
}

var findingKinds = []struct{ only, words string }{
	{"", "all findings"},
	{"error", "errors"},
	{"warning", "warnings"},
	{"new", "new findings"},
	{"gone", "gone findings"},
}

func showFindings(m *view.Model) {
	f := &findings{before: m.Selected}
	f.list = view.List[api.Finding]{
		Same: func(a, b api.Finding) bool {
			return a.Unit == b.Unit && a.Location == b.Location && a.Message == b.Message
		},
		Fetch: func(ctx context.Context, p api.Record, q api.ResultQuery) ([]api.Finding, int, error) {
			page, err := p.Findings(ctx, q)
			return page.Findings, page.Total, err
		},
	}
	m.Show(f)
}

// Closed restores the selection of the lanes.
func (f *findings) Closed(m *view.Model) { m.Selected = f.before }

func (*findings) Name() string { return "findings" }

func (*findings) Grabs(*view.Model) bool { return false }

// VisibleOutput is what the keys for output act on.
func (f *findings) VisibleOutput() *stream.Stream {
	if f.hasRoom {
		return f.output.stream
	}
	return nil
}

func (f *findings) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseWheelMsg:
		f.list.Move(view.Wheel(msg))
	case tea.MouseClickMsg:
		from, _ := f.list.Window(f.room)
		if row := msg.Y - m.BodyTop - 1; row >= 0 && row < f.room {
			f.list.At = min(from+row, max(f.list.Total-1, 0))
		}
	}
}

// Ask implements view.Asker.
func (f *findings) Ask(m *view.Model) {
	v := resultsVersion(m)
	f.list.Query.Only = findingKinds[f.only].only
	f.list.Ask(m, v)
	c, ok := f.list.Selected()
	if !ok {
		return
	}
	if f.hasRoom {
		f.output.ask(m, c)
	}
	if c.File == "" || f.source.file == c.File && f.source.of == v {
		return
	}
	if m.Selected = c.Unit; m.Remote != nil {
		f.source = source{file: c.File, of: v, err: fmt.Errorf("it is on %s", m.Remote.Name)}
		return
	}
	f.source = source{file: c.File, of: v, lines: f.source.lines}
	m.Later(func(context.Context) view.Then {
		read := readSource(c.File, v)
		return func() { f.source = read }
	})
}

func (f *findings) Draw(m *view.Model, width, height int) []string {
	rows := []string{m.TitledRule(f.listTitle(), width)}
	if f.list.Total == 0 {
		text := "no findings"
		if f.only > 0 || f.list.Query.Text != "" {
			text = "no such findings; o changes the filter"
		}
		return view.Pad(append(rows, cells.Fit(m.Palette.Dim.Render("  "+text), width)), height, width)
	}
	f.room = min(max((height-2)*11/20, 3), f.list.Total)
	from, end := f.list.Window(f.room)
	for i := from; i < end; i++ {
		rows = append(rows, f.row(m, i, width, i == from))
	}
	if c, ok := f.list.Selected(); ok {
		place := strings.TrimSuffix(c.From(m.Snap.Project.Root).Text(), ": ")
		rows = append(rows, m.TitledRule(strings.TrimSpace(place+"  "+c.Rule), width))
		rest := height - len(rows)
		detail, output := f.parts(c, rest)
		f.hasRoom = output > 0
		rows = append(rows, f.detail(m, c, width, detail)...)
		if output > 0 {
			rows = append(view.Pad(rows, height-output, width), f.output.draw(m, c, width, output)...)
		}
	}
	return view.Pad(rows, height, width)
}

// parts divides the height between the selected finding with its source and the output of its run. On a small screen
// there is no output.
func (f *findings) parts(c api.Finding, height int) (detail, output int) {
	const least = 12
	needed := len(c.Notes) + 2
	if c.Line > 0 && f.source.file == c.File {
		needed += len(f.source.lines) + 1
	}
	if detail = min(needed, height/2); height-detail < least {
		return height, 0
	}
	return detail, height - detail
}

func (f *findings) listTitle() string {
	text := findingKinds[f.only].words
	if f.list.Query.Text != "" {
		text += fmt.Sprintf(" with %q", f.list.Query.Text)
	}
	if f.list.Query.By == "unit" {
		text += ", by unit"
	}
	if f.list.Total > 0 {
		text += fmt.Sprintf(", %d of %d", f.list.At+1, f.list.Total)
	}
	return text
}

// severityStyle is the color of a severity.
func severityStyle(m *view.Model, s api.Severity) lipgloss.Style {
	switch s {
	case api.SeverityError:
		return m.Palette.Broken
	case api.SeverityWarning:
		return m.Palette.Stale
	}
	return m.Palette.Dim
}

// row is a finding in the list. Consecutive findings in a file show its name once.
func (f *findings) row(m *view.Model, number, width int, first bool) string {
	c, ok := f.list.Row(number)
	if !ok {
		return cells.Fit("", width)
	}
	mark := "  "
	if number == f.list.At {
		mark = m.Palette.Bright.Render("▸ ")
	}
	before, has := f.list.Row(number - 1)
	line := ""
	if c.Line > 0 {
		line = fmt.Sprintf(":%d", c.Line)
	}
	fileWidth := min(max(width/4, 16), 40)
	place := keepEnd(c.From(m.Snap.Project.Root).File+line, fileWidth)
	if has && !first && before.File == c.File {
		place = strings.Repeat(" ", max(ansi.StringWidth(place)-len(line), 0)) + line
	}
	style, message := severityStyle(m, c.Severity), m.Palette.Text
	change := map[api.Change]string{api.NewFinding: "new", api.GoneFinding: "gone"}[c.Change]
	switch {
	case c.Change == api.GoneFinding:
		style, message = m.Palette.Dim.Strikethrough(true), m.Palette.Dim.Strikethrough(true)
	case number == f.list.At:
		message = m.Palette.Bright
	}
	row := mark +
		m.Palette.Text.Bold(c.Change == api.NewFinding).Render(cells.Fit(change, 5)) +
		cells.Fit(style.Render(string(c.Severity)), 8) +
		m.Palette.Dim.Render(cells.Fit(place, fileWidth)) + "  " +
		message.Render(c.Message)
	right := ""
	if width >= 100 {
		right = m.UnitStyle(c.Unit).Render(c.Reporters()) + " "
	}
	return cells.Ends(row, right, width)
}

// keepEnd cuts text to at most width cells, and keeps its end.
func keepEnd(text string, width int) string {
	kept := text
	for over := 1; ansi.StringWidth(kept) > width; over++ { // a wide character at the cut stays whole
		kept = ansi.TruncateLeft(text, ansi.StringWidth(text)-width+over, "…")
	}
	return kept
}

func (f *findings) next(*view.Model) {
	f.only = (f.only + 1) % len(findingKinds)
	f.list.At = 0
}

// regroup sorts by unit, or by file again.
func (f *findings) regroup() {
	if f.list.Query.By == "" {
		f.list.Query.By = "unit"
	} else {
		f.list.Query.By = ""
	}
	f.list.At = 0
}

func (f *findings) edit(m *view.Model) {
	if c, ok := f.list.Selected(); ok {
		m.OpenLocation(c.Location)
	}
}

func (f *findings) find(m *view.Model) {
	seekIn(m, f, "findings with  ", "a part of a file, rule or message", &f.list, f.list.Query.Text)
}
