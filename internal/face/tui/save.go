package tui

import (
	"context"
	"fmt"
	"path/filepath"

	"charm.land/bubbles/v2/textinput"
	tea "charm.land/bubbletea/v2"

	"omnivigil/internal/face/export"
	"omnivigil/internal/text/format"
)

// saveField is the field in which one types into which file the stream is written.
type saveField struct {
	input  textinput.Model
	within *[2]int64 // only lines of these numbers
}

func (m *model) saveOutput() {
	name := "output-" + m.now.Format("150405") + ".txt"
	m.open(&saveField{input: m.field("write what is shown to  ", ".txt, .jsonl or .html", name)})
}

func (*saveField) name() string { return "write" }

func (*saveField) grabs(*model) bool { return true }

func (*saveField) draw(m *model, width, height int) []string {
	return m.overview.draw(m, width, height)
}

func (f *saveField) field() *textinput.Model { return &f.input }

func (f *saveField) update(m *model, msg tea.Msg) { m.typed(&f.input, msg) }

// write asks into which file the chosen lines are written.
func (p *picking) write(m *model) {
	within := [2]int64{p.at, p.at}
	if p.from >= 0 {
		within = [2]int64{min(p.at, p.from), max(p.at, p.from)}
	}
	m.close()
	m.saveOutput()
	f := m.top().(*saveField)
	f.within, f.input.Prompt = &within, "write these lines to  "
}

// resultsField is the field in which one types into which file tests and findings are written.
type resultsField struct {
	input textinput.Model
	below view
}

func (m *model) writeResults() {
	name := "results-" + m.now.Format("150405") + ".xml"
	m.open(
		&resultsField{m.field("write tests and findings to  ", ".xml (JUnit), .tap, .sarif or .jsonl", name), m.top()},
	)
}

func (*resultsField) name() string { return "write results" }

func (*resultsField) grabs(*model) bool { return true }

func (f *resultsField) draw(m *model, width, height int) []string {
	return f.below.draw(m, width, height)
}

func (f *resultsField) field() *textinput.Model { return &f.input }

func (f *resultsField) update(m *model, msg tea.Msg) { m.typed(&f.input, msg) }

// saveResults writes them, in the format that the file's name asks for.
func (m *model) saveResults() {
	file := m.top().(*resultsField).input.Value()
	m.close()
	if file == "" {
		return
	}
	if !filepath.IsAbs(file) {
		file = filepath.Join(m.snap.Project.Root, file)
	}
	m.later(func(ctx context.Context) then {
		r, err := export.ResultsOf(ctx, m.project, nil)
		if err == nil {
			err = export.ResultsFile(r, export.ResultsFormatOf(file), file)
		}
		return func() { m.saved(err, format.Count(len(r.Cases)+len(r.Findings), "result")+" written to "+file) }
	})
}

// save writes the stream: all that its filter lets through, as far as the log goes.
func (m *model) save() {
	f := m.top().(*saveField)
	file := f.input.Value()
	m.close()
	if file == "" {
		return
	}
	if !filepath.IsAbs(file) {
		file = filepath.Join(m.snap.Project.Root, file)
	}
	filter, snap := m.stream().filter.String(), m.snap
	m.later(func(ctx context.Context) then {
		n, err := export.StreamFile(
			ctx,
			m.project,
			snap,
			export.Part{Filter: filter, Within: f.within},
			export.FormatOf(file),
			file,
		)
		return func() { m.saved(err, format.Count(n, "line")+" written to "+file) }
	})
}

// saved says how writing a file went: why it failed, or what was done.
func (m *model) saved(err error, done string) {
	if err != nil {
		m.notice = fmt.Sprintf("it was not written: %v", err)
		return
	}
	m.said = done
}
