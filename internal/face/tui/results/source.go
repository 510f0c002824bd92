package results

import (
	"fmt"
	"os"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/face/tui/cells"
	"omnivigil/internal/face/tui/view"
)

// source is the lines of a file.
type source struct {
	file  string
	of    int // the version of the results when it was read: it may have been saved since
	lines []string
	err   error
}

// maxSource limits the size of files whose lines are shown.
const maxSource = 4 << 20

func readSource(file string, version int) source {
	read := source{file: file, of: version}
	info, err := os.Stat(file)
	switch {
	case err != nil:
		read.err = err
	case !info.Mode().IsRegular() || info.Size() > maxSource:
		read.err = fmt.Errorf("%s is not a source file", file)
	default:
		var data []byte
		data, read.err = os.ReadFile(file)
		read.lines = strings.Split(string(data), "\n")
	}
	return read
}

// detail is the selected finding with the source around it.
func (f *findings) detail(m *view.Model, c api.Finding, width, height int) []string {
	rows := []string{"  " + severityStyle(m, c.Severity).Render(c.Message)}
	for _, note := range c.Notes {
		rows = append(rows, "  "+m.Palette.Dim.Render(note))
	}
	rows = append(rows, "")
	switch {
	case c.File == "" || f.source.file != c.File:
	case f.source.err != nil:
		rows = append(rows, "  "+m.Palette.Dim.Render("the source cannot be shown: "+f.source.err.Error()))
	default:
		rows = append(rows, f.around(m, c, height-len(rows))...)
	}
	rows = rows[:max(0, min(len(rows), height))]
	for i := range rows {
		rows[i] = cells.Fit(rows[i], width)
	}
	return rows
}

// around is the source around a finding, with its line marked.
func (f *findings) around(m *view.Model, c api.Finding, height int) []string {
	if c.Line == 0 || height <= 0 {
		return nil
	}
	from := max(1, min(c.Line-height/2+1, len(f.source.lines)-height+2))
	var rows []string
	for n := from; n <= len(f.source.lines) && len(rows) < height; n++ {
		text := view.Stops(strings.TrimRight(f.source.lines[n-1], "\r"))
		number := m.Palette.Dim.Render(fmt.Sprintf("%6d  ", n))
		if n != c.Line {
			rows = append(rows, number+m.Palette.Dim.Render(text))
			continue
		}
		number = severityStyle(m, c.Severity).Render(fmt.Sprintf("▸%5d  ", n))
		rows = append(rows, number+m.Palette.Bright.Render(text))
		if c.Column > 0 && len(rows) < height {
			line := []rune(f.source.lines[n-1])
			before := ansi.StringWidth(view.Stops(string(line[:min(c.Column-1, len(line))])))
			rows = append(rows, strings.Repeat(" ", 8+before)+severityStyle(m, c.Severity).Render("▔"))
		}
	}
	return rows
}
