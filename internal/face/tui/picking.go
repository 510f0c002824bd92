package tui

import (
	"context"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/locate"
	"omnivigil/internal/output/stacktrace"
	"omnivigil/internal/process/browser"
	"omnivigil/internal/text/format"
)

// picking is the view in which one points at lines of the stream, to take them away or to open
// what they name.
type picking struct {
	of *stream
	*selection
}

func pick(m *view.Model) {
	s := focused(m)
	if len(s.shown) == 0 {
		return
	}
	at := s.shown[len(s.shown)-1].Number
	if hit := s.search.hit; slices.ContainsFunc(s.shown, func(l api.Line) bool { return l.Number == hit }) {
		at = hit
	}
	m.Open(&picking{s, s.selectFrom(at)})
}

// Closed implements closer.
func (p *picking) Closed(*view.Model) { p.of.selection = nil }

func (*picking) Name() string { return "lines" }

func (*picking) Grabs(*view.Model) bool { return true }

func (p *picking) Draw(m *view.Model, width, height int) []string {
	return overviewOf(m).Draw(m, width, height)
}

// Update points with the mouse: dragging chooses, and a click on the line that one is at opens what
// it names.
func (p *picking) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseWheelMsg:
		handleMouse(m, msg)
	case tea.MouseClickMsg:
		l, ok := overviewOf(m).lineAt(m, msg.X, msg.Y)
		switch {
		case ok && l.Number == p.at && p.from < 0:
			p.open(m, l)
		case ok:
			p.at, p.from = l.Number, -1
		}
	case tea.MouseMotionMsg:
		if l, ok := overviewOf(m).lineAt(m, msg.X, msg.Y); ok && msg.Button == tea.MouseLeft {
			if p.from < 0 {
				p.from = p.at
			}
			p.at = l.Number
		}
	}
}

// point moves by that many lines; at an end of the screen the stream scrolls.
func (p *picking) point(by int) {
	s := p.of
	i := slices.IndexFunc(s.shown, func(l api.Line) bool { return l.Number >= p.at })
	if i < 0 {
		i = len(s.shown) - 1
	}
	next := i + by
	switch {
	case len(s.shown) == 0:
	case next < 0 || next >= len(s.shown):
		p.edge = max(-1, min(by, 1))
		if s.scroll(by); s.following() { // it was at the end
			s.hold()
		}
		p.at = s.shown[max(0, min(next, len(s.shown)-1))].Number
	default:
		p.at = s.shown[next].Number
	}
}

// choose begins to choose lines, or gives that up.
func (p *picking) choose(*view.Model) {
	if p.from >= 0 {
		p.from = -1
	} else {
		p.from = p.at
	}
}

// mark marks the line, or takes its mark away.
func (p *picking) mark(m *view.Model) {
	if m.Marks[p.at] {
		delete(m.Marks, p.at)
		return
	}
	m.Marks[p.at] = true
}

// nextMark goes to the mark before what is shown, or, at the first, to the last one.
func nextMark(m *view.Model) {
	s := focused(m)
	var all []int64
	for n := range m.Marks {
		all = append(all, n)
	}
	if len(all) == 0 {
		m.Said = `no line is marked: " and then ' marks one`
		return
	}
	slices.Sort(all)
	here := s.top()
	if slices.Contains(all, s.search.hit) {
		here = s.search.hit
	}
	to := all[len(all)-1]
	for _, n := range all {
		if n < here {
			to = n
		}
	}
	s.search.hit = to
	s.showLine(to)
}

// line is the one pointed at.
func (p *picking) line() (api.Line, bool) {
	for _, l := range p.of.shown {
		if l.Number == p.at {
			return l, true
		}
	}
	return api.Line{}, false
}

// maxCopied is how many lines are copied at most: terminals take no more.
const maxCopied = 5000

// copy puts the chosen lines into the clipboard: all of a stack trace where one line of it is
// pointed at.
func (p *picking) copy(m *view.Model) {
	line, ok := p.line()
	if !ok && p.from < 0 {
		return
	}
	filter := p.of.filter.String()
	from, to := min(p.at, p.from), max(p.at, p.from)
	single := p.from < 0
	m.Later(func(ctx context.Context) view.Then {
		var texts []string
		var err error
		if single {
			texts, err = blockOf(ctx, m.Project, line)
		} else {
			var page api.Page
			page, err = m.Project.Lines(ctx, api.LineQuery{Filter: filter, From: from, Count: maxCopied})
			for _, l := range page.Lines {
				if l.Number <= to {
					texts = append(texts, ansi.Strip(l.Text))
				}
			}
		}
		if err != nil {
			return m.Report(err)
		}
		return func() {
			m.Run(tea.SetClipboard(strings.Join(texts, "\n")))
			m.Said = format.Count(len(texts), "line") + " copied"
		}
	})
	m.Close()
}

// blockOf returns the texts of the trace that a line is of, or its own.
func blockOf(ctx context.Context, log api.Log, line api.Line) ([]string, error) {
	const around = 200
	if line.Stream != api.Output {
		return []string{ansi.Strip(line.Text)}, nil
	}
	before, err := log.Lines(ctx, api.LineQuery{Unit: line.Unit, Run: line.Run, End: line.Number + 1, Count: around})
	if err != nil {
		return nil, err
	}
	after, err := log.Lines(ctx, api.LineQuery{Unit: line.Unit, Run: line.Run, From: line.Number + 1, Count: around})
	if err != nil {
		return nil, err
	}
	var texts []string
	at := 0
	for _, l := range slices.Concat(before.Lines, after.Lines) {
		if l.Stream != api.Output {
			continue
		}
		if l.Number == line.Number {
			at = len(texts)
		}
		texts = append(texts, ansi.Strip(l.Text))
	}
	starts := stacktrace.Blocks(texts)
	for i := range len(starts) - 1 {
		if at < starts[i+1] {
			return texts[starts[i]:starts[i+1]], nil
		}
	}
	return nil, nil
}

// edit opens the place that the line names in the user's editor.
func (p *picking) edit(m *view.Model) {
	line, ok := p.line()
	if !ok {
		return
	}
	found := locate.In(ansi.Strip(line.Text), foldersOf(m, line)...)
	if len(found) == 0 {
		m.Said = "this line names no place in a file that is there"
		return
	}
	m.OpenEditor(found[0])
}

// open opens the address or the place that a line names, if it names one.
func (p *picking) open(m *view.Model, line api.Line) {
	switch {
	case len(addressesIn(line)) > 0:
		p.follow(m)
	case len(locate.In(ansi.Strip(line.Text), foldersOf(m, line)...)) > 0:
		p.edit(m)
	}
}

// addressesIn are the web addresses that a line has, links first.
func addressesIn(line api.Line) []string {
	return append(locate.Links(line.Text), locate.Addresses(ansi.Strip(line.Text))...)
}

// foldersOf are those to which the paths in a line may be relative.
func foldersOf(m *view.Model, line api.Line) []string {
	if u := m.Snap.Unit(line.Unit); u != nil {
		return []string{u.Dir, m.Snap.Project.Root}
	}
	return []string{m.Snap.Project.Root}
}

// follow opens the address that the line names in the browser.
func (p *picking) follow(m *view.Model) {
	line, ok := p.line()
	if !ok {
		return
	}
	found := addressesIn(line)
	if len(found) == 0 {
		m.Said = "this line has no web address"
		return
	}
	m.Later(func(context.Context) view.Then { return m.Report(browser.Address(found[0])) })
}
