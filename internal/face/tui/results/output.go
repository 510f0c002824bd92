package results

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/stream"
	"omnivigil/internal/face/tui/view"
	"omnivigil/internal/output/query"
	"omnivigil/internal/text/escape"
)

// output is what the run of a finding has printed, around the line that the finding comes from.
type output struct {
	stream *stream.Stream
	of     reported
}

// reported is what a run has reported, and where.
type reported struct {
	unit    string
	run     int
	message string
	file    string // its base name
	line    int
}

// ask shows the output of a finding's run, around the line that it comes from. That line is searched for: a finding
// does not know it, and one that comes from a report file has none. Then the end of the output is shown.
func (o *output) ask(m *view.Model, c api.Finding) {
	if o.stream == nil {
		o.stream = stream.New(stream.Beyond{})
		o.stream.Fixed = true
	}
	if of := (reported{c.Unit, c.Run, firstOf(c.Message), filepath.Base(c.File), c.Line}); o.of != of {
		o.of = of
		o.stream.Filter = query.Filter{
			{Field: query.Units, Units: []string{c.Unit}}, {Field: query.Run, Number: c.Run},
		}
		o.stream.ToNow()
		o.find(m)
	}
	o.stream.Ask(m)
}

// find goes to the line that reports the finding.
func (o *output) find(m *view.Model) {
	of := o.of
	if of.message == "" {
		return
	}
	lines := append(query.Filter{{Pattern: query.Pattern{Text: of.message}}}, o.stream.Filter...)
	m.Later(func(ctx context.Context) view.Then {
		page, err := m.Project.Lines(ctx, api.LineQuery{Filter: lines.String(), Last: true})
		if err != nil || len(page.Lines) == 0 {
			return m.Report(err)
		}
		return func() {
			if o.of == of {
				o.stream.ShowLine(of.lineIn(page.Lines).Number)
			}
		}
	})
}

// lineIn is the last line that names the location or, if there is none, the file, or else the last line.
func (r reported) lineIn(lines []api.Line) api.Line {
	for _, place := range []string{fmt.Sprintf("%s:%d:", r.file, r.line), r.file} {
		for _, line := range slices.Backward(lines) {
			if strings.Contains(escape.Strip(line.Text), place) {
				return line
			}
		}
	}
	return lines[len(lines)-1]
}

func (o *output) draw(m *view.Model, c api.Finding, width, height int) []string {
	if o.stream == nil {
		return nil
	}
	title := m.TitledRule(fmt.Sprintf("output of %s run %d", c.Unit, c.Run), width)
	return append([]string{title}, o.stream.Draw(m, width, height-1)...)
}
