package overview

import (
	"context"
	"fmt"
	"os"
	"slices"
	"strings"

	tea "charm.land/bubbletea/v2"
	"github.com/atotto/clipboard"
	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/locate"
	"omnivigil/internal/output/query"
	"omnivigil/internal/output/stacktrace"
	"omnivigil/internal/process/browser"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// picking is the view in which the user points at lines of a stream, to copy them or to open what they name.
type picking struct{ of *stream.Stream }

func pick(m *view.Model) {
	if s := Focused(m); s.BeginSelection() {
		m.Open(&picking{s})
	}
}

// Closed ends the selection when the view is closed.
func (p *picking) Closed(*view.Model) { p.of.EndSelection() }

func (*picking) Name() string { return "lines" }

func (*picking) Grabs(*view.Model) bool { return true }

func (p *picking) Draw(m *view.Model, width, height int) []string {
	return Of(m).Draw(m, width, height)
}

// Update points with the mouse: dragging selects, and a click on the line pointed at opens what it names.
func (p *picking) Update(m *view.Model, msg tea.Msg) {
	switch msg := msg.(type) {
	case tea.MouseWheelMsg:
		HandleMouse(m, msg)
	case tea.MouseClickMsg:
		l, ok := Of(m).lineAt(m, msg.X, msg.Y)
		at, _, several := p.of.Selected()
		switch {
		case ok && l.Number == at && !several:
			p.open(m, l)
		case ok:
			p.of.PointAt(l.Number)
		}
	case tea.MouseMotionMsg:
		if l, ok := Of(m).lineAt(m, msg.X, msg.Y); ok && msg.Button == tea.MouseLeft {
			p.of.SelectTo(l.Number)
		}
	}
}

// mark marks the line, or removes its mark.
func (p *picking) mark(m *view.Model) {
	at, ok := p.of.Pointed()
	line := view.LineID{Session: p.of.Session, Number: at.Number}
	switch {
	case !ok:
	case m.Marks[line]:
		delete(m.Marks, line)
	default:
		m.Marks[line] = true
	}
}

// maxCopied limits the lines that are copied: terminals accept no more.
const maxCopied = 5000

// copy copies the selected lines to the clipboard; or, of a stack trace in which only one line is pointed at, all
// lines.
func (p *picking) copy(m *view.Model) {
	line, ok := p.of.Pointed()
	from, to, several := p.of.Selected()
	if !ok && !several {
		return
	}
	filter, raw, session := p.of.Filter.String(), p.of.IsRaw(), p.of.Session
	m.Later(func(ctx context.Context) view.Then {
		log, err := m.Record(ctx, session)
		if err != nil {
			return m.Report(err)
		}
		var texts []string
		if !several {
			texts, err = blockOf(ctx, log, line, raw)
		} else {
			var page api.Page
			page, err = log.Lines(ctx, api.LineQuery{Filter: filter, From: from, Count: maxCopied, Raw: raw})
			for _, l := range page.Lines {
				if l.Number <= to {
					texts = append(texts, escape.Strip(l.Text))
				}
			}
		}
		if err != nil {
			return m.Report(err)
		}
		text, lines := strings.Join(texts, "\n"), format.Count(len(texts), "line")
		if copied(text) {
			return func() { m.Said = lines + " copied" }
		}
		return func() { // whether the terminal takes it cannot be known
			m.Run(view.Tell(ansi.SetSystemClipboard(text)))
			m.Said = fmt.Sprintf("%s sent to the terminal's clipboard; %s and then w write lines to a file", lines,
				m.KeyOf("select-lines"))
		}
	})
	m.Close()
}

// copied copies a text with a clipboard program of this machine, and reports whether it was done. Over ssh there is
// none: the clipboard of the user's machine is that of the terminal.
func copied(text string) bool {
	remote := os.Getenv("SSH_CONNECTION") != ""
	return !remote && !clipboard.Unsupported && clipboard.WriteAll(text) == nil
}

// blockOf returns the texts of the stack trace that a line belongs to, or only its own.
func blockOf(ctx context.Context, log api.Log, line api.Line, raw bool) ([]string, error) {
	const around = 200
	q := api.LineQuery{Unit: line.Unit, Run: line.Run, Count: around, Raw: raw}
	if line.Stream != api.Output {
		return []string{escape.Strip(line.Text)}, nil
	}
	q.End = line.Number + 1
	before, err := log.Lines(ctx, q)
	if err != nil {
		return nil, err
	}
	q.From, q.End = q.End, 0
	after, err := log.Lines(ctx, q)
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
		texts = append(texts, escape.Strip(l.Text))
	}
	starts := stacktrace.Blocks(texts)
	for i := range len(starts) - 1 {
		if at < starts[i+1] {
			return texts[starts[i]:starts[i+1]], nil
		}
	}
	return nil, nil
}

// edit opens the location that the line names in the user's editor.
func (p *picking) edit(m *view.Model) {
	line, ok := p.of.Pointed()
	if !ok {
		return
	}
	found := m.Locations(escape.Strip(line.Text), foldersOf(m, line)...)
	if len(found) == 0 {
		m.Said = "this line names no place in a file that is there"
		return
	}
	m.OpenEditor(found[0])
}

// open opens the address or the location that a line names, if it names one.
func (p *picking) open(m *view.Model, line api.Line) {
	switch {
	case len(addressesIn(line)) > 0:
		p.follow(m)
	case len(m.Locations(escape.Strip(line.Text), foldersOf(m, line)...)) > 0:
		p.edit(m)
	}
}

// addressesIn are the web addresses in a line, links first.
func addressesIn(line api.Line) []string {
	return append(locate.Links(line.Text), locate.Addresses(escape.Strip(line.Text))...)
}

// foldersOf are the directories that the paths in a line may be relative to.
func foldersOf(m *view.Model, line api.Line) []string {
	if u := m.Snap.Unit(line.Unit); u != nil {
		return []string{u.Dir, m.Snap.Project.Root}
	}
	return []string{m.Snap.Project.Root}
}

// follow opens the address that the line names in the browser.
func (p *picking) follow(m *view.Model) {
	line, ok := p.of.Pointed()
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

// followValue shows the lines of all units with the value that is pointed at.
func (p *picking) followValue(m *view.Model) {
	value := p.of.Value()
	if value == "" {
		m.Said = "this line has no value to follow"
		return
	}
	m.Close()
	if !m.IsPast() { // the stream stayed only for pointing
		p.of.ToNow()
	}
	p.of.Use(m, query.Filter{{Field: query.Text, Pattern: query.Pattern{Text: value}}})
	m.Said = fmt.Sprintf("lines of all units with %s; %s shows all again", value, m.KeyOf("show-all"))
}

// previousMark goes to the last marked line before those shown.
func previousMark(m *view.Model, s *stream.Stream) {
	if !s.PreviousMark(m.Marks) {
		m.Said = `no line is marked: " and then ' marks one`
	}
}
