// Package plain is the face for pipes, files and users who want one stream: it prints every line of the log once, as
// "15:04:05.000 NAME text". Start reading at Printer.
package plain

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"time"

	"omnivigil/internal/api"
	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/format"
)

// self is the name of Omnivigil's own events.
const self = "omnivigil"

// Format is how lines are printed.
type Format struct {
	Width int  // of the column of names
	Color bool // keep colors and links
	Raw   bool // lines as they were written
}

// For returns the format for a project's units.
func For(snap *api.Snapshot, color bool) Format {
	f := Format{Width: len(self), Color: color}
	for _, u := range snap.Units {
		f.Width = max(f.Width, len(u.Name))
	}
	return f
}

// Line returns a line as it is printed, without its end.
func (f Format) Line(l api.Line) string {
	name, text := l.Unit, l.Text
	if l.Stream != api.Output {
		name = self
		if l.Unit != "" {
			text = l.Unit + " " + l.Text
		}
	}
	l.Text = text
	return fmt.Sprintf("%s %-*s  %s", l.At.Format("15:04:05.000"), max(f.Width, len(self)), name, Text(l, f.Color))
}

// Text returns a line's text as it is printed.
func Text(l api.Line, color bool) string {
	if !color {
		return escape.Styled(escape.Strip(l.Text))
	}
	return escape.Styled(l.Text)
}

// Printer prints the log of a project from its beginning.
type Printer struct {
	Project api.Project
	Out     io.Writer
	Format  Format
	next    int64
	told    bool // it was reported that the log cannot be written
}

// kind is what this face calls itself.
const kind = "plain"

// Follow prints lines as they come until the project has ended and all are printed. It returns early if Out refuses a
// write. It returns the newest snapshot; nil: there was none.
func (p *Printer) Follow(ctx context.Context) (last *api.Snapshot, err error) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	go api.WatchSilence(ctx, p.Project, saySilence)
	err = p.Project.Follow(ctx, api.Face{Kind: kind, PID: os.Getpid()}, func(snap *api.Snapshot) error {
		last = snap
		if err := p.catchUp(ctx, snap.Lines); err != nil {
			return err
		}
		if broken := snap.LogProblem != ""; broken != p.told {
			if p.told = broken; broken {
				fmt.Fprintln(os.Stderr, self+":", snap.LogProblem)
			} else {
				fmt.Fprintln(os.Stderr, self+": the log can be written again")
			}
		}
		return nil
	})
	return last, err
}

// saySilence reports when the project stops answering, and when it answers again.
func saySilence(silent time.Duration) {
	switch {
	case silent == api.Silence:
		fmt.Fprintf(
			os.Stderr,
			"%s: no answer from the project for %s; its process may be stopped\n",
			self,
			format.Duration(silent),
		)
	case silent == 0:
		fmt.Fprintln(os.Stderr, self+": the project answers again")
	}
}

// catchUp prints new lines, up to so many.
func (p *Printer) catchUp(ctx context.Context, lines int64) (err error) {
	if p.next < lines {
		q := api.TextQuery{From: p.next, End: lines, Raw: p.Format.Raw}
		p.next, err = p.Project.Text(ctx, q, &fit{to: p.Out, color: p.Format.Color})
	}
	return err
}

// fit makes lines safe to print. Each Write is of whole lines.
type fit struct {
	to    io.Writer
	color bool
	bare  []byte // for reuse
}

func (f *fit) Write(lines []byte) (int, error) {
	if _, err := f.to.Write(f.fitted(lines)); err != nil {
		return 0, err
	}
	return len(lines), nil
}

func (f *fit) fitted(lines []byte) []byte {
	if !f.color && bytes.IndexByte(lines, 0x1b) >= 0 {
		f.bare = escape.AppendStripped(f.bare[:0], lines)
		lines = f.bare
	}
	if escape.Harmless(lines) { // true for nearly all, and a copy is ten times as fast
		return lines
	}
	var b bytes.Buffer
	for line := range bytes.Lines(lines) {
		if !escape.Harmless(line) {
			line = []byte(escape.Styled(string(bytes.TrimSuffix(line, []byte("\n")))) + "\n")
		}
		b.Write(line)
	}
	return b.Bytes()
}
