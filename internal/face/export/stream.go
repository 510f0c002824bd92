// Package export writes output and results in open formats: text, JSON lines and HTML; JUnit XML, TAP, SARIF and
// JSON. Drawings are in package draw. Start reading at Stream and Results.
package export

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"math"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"omnivigil/internal/api"
	"omnivigil/internal/face/plain"
	"omnivigil/internal/text/escape"
)

// Formats of a stream: text as the plain stream prints it, a JSON object for each line, and a
// page with colors.
const (
	Text  = "text"
	JSON  = "json"
	HTML  = "html"
	known = `"text", "json" or "html"`
)

// FormatOf returns the format for a file's extension.
func FormatOf(file string) string {
	switch strings.ToLower(filepath.Ext(file)) {
	case ".json", ".jsonl", ".ndjson":
		return JSON
	case ".html", ".htm":
		return HTML
	}
	return Text
}

// Part selects lines of a log.
type Part struct {
	Filter string    // as in api.LineQuery
	Within *[2]int64 // only the lines between two numbers; nil: all
}

// StreamFile writes lines into a new file, as Stream does, and returns their number. An existing file is an error,
// and stays unchanged.
func StreamFile(
	ctx context.Context,
	p api.Log,
	snap *api.Snapshot,
	part Part,
	format, file string,
) (lines int, err error) {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return 0, err
	}
	defer func() {
		if closed := f.Close(); err == nil {
			err = closed
		}
	}()
	return Stream(ctx, p, snap, part, format, f)
}

// Stream writes a part of a log, and returns the number of lines.
func Stream(
	ctx context.Context,
	p api.Log,
	snap *api.Snapshot,
	part Part,
	format string,
	w io.Writer,
) (lines int, err error) {
	out := bufio.NewWriter(w)
	write, end, err := writerOf(out, snap, part.Filter, format)
	if err != nil {
		return 0, err
	}
	q, last := api.LineQuery{Filter: part.Filter, Count: api.MaxLines}, int64(math.MaxInt64)
	if part.Within != nil {
		q.From, last = part.Within[0], part.Within[1]
	}
	for more := true; more; {
		page, err := p.Lines(ctx, q)
		if err != nil {
			return lines, err
		}
		for _, l := range page.Lines {
			if l.Number > last {
				break
			}
			if err := write(l); err != nil {
				return lines, err
			}
			lines++
		}
		q.From = page.End
		more = len(page.Lines) > 0 && q.From <= last
	}
	io.WriteString(out, end)
	return lines, out.Flush()
}

// writerOf begins a document, and returns functions that write a line and end the document.
func writerOf(
	out *bufio.Writer,
	snap *api.Snapshot,
	filter, format string,
) (write func(api.Line) error, end string, err error) {
	plainly := plain.For(snap, false)
	switch format {
	case Text:
		return func(l api.Line) error {
			_, err := out.WriteString(plainly.Line(l) + "\n")
			return err
		}, "", nil
	case JSON:
		e := json.NewEncoder(out)
		e.SetEscapeHTML(false)
		return func(l api.Line) error {
			l.Text = escape.Strip(l.Text)
			return e.Encode(l)
		}, "", nil
	case HTML:
		title := snap.Project.Name
		if filter != "" {
			title += ": " + filter
		}
		fmt.Fprintf(out, pageBegin, escapeHTML(title), escapeHTML(title))
		colored := plain.For(snap, true)
		return func(l api.Line) error {
			class := "output"
			if l.Stream != api.Output {
				class = "own " + string(l.Tone)
			}
			_, err := fmt.Fprintf(
				out,
				"<div class=\"%s\">%s</div>\n",
				strings.TrimSpace(class),
				markUp(colored.Line(l)),
			)
			return err
		}, pageEnd, nil
	}
	return nil, "", fmt.Errorf("there is no format %q: it is %s", format, known)
}

// Known reports whether a stream can be written in a format.
func Known(format string) bool { return slices.Contains([]string{Text, JSON, HTML}, format) }
