// Package plain is the face for pipes, files and people who want one stream: it
// prints every line of the log once, in the form "15:04:05.000 NAME  text".
package plain

import (
	"bufio"
	"context"
	"fmt"
	"io"
	"os"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/api"
	"omnivigil/internal/visible"
)

// self is the name that Omnivigil's own events carry.
const self = "omnivigil"

// Format says how lines are printed.
type Format struct {
	Width  int  // of the column of names
	Colour bool // keep colours and links
}

// For returns the format for a project's units.
func For(snap *api.Snapshot, colour bool) Format {
	f := Format{Width: len(self), Colour: colour}
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
	return fmt.Sprintf("%s %-*s  %s", l.At.Format("15:04:05.000"), max(f.Width, len(self)), name, Text(l, f.Colour))
}

// Text returns a line's text as it is printed.
func Text(l api.Line, colour bool) string {
	if !colour {
		return visible.Styled(ansi.Strip(l.Text))
	}
	return visible.Styled(l.Text)
}

// Printer prints the log of a project from its beginning.
type Printer struct {
	Project api.Project
	Out     io.Writer
	Format  Format
	next    int64
	told    bool // that the log cannot be written
}

// kind is what this face calls itself.
const kind = "plain"

// Follow prints lines as they come until the project has ended and all are printed. It
// returns early when Out refuses a write. It returns how the project was when it was last
// seen, nil where it never was.
func (p *Printer) Follow(ctx context.Context) (last *api.Snapshot, err error) {
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

// catchUp prints what has come, up to so many lines. While a page is printed, the next one is
// on its way.
func (p *Printer) catchUp(ctx context.Context, lines int64) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	out := bufio.NewWriter(p.Out)
	for f := range p.pages(ctx, p.next, lines) {
		if f.err != nil {
			return f.err
		}
		for _, l := range f.page.Lines {
			out.WriteString(p.Format.Line(l))
			out.WriteByte('\n')
		}
		p.next = f.page.End
		if err := out.Flush(); err != nil {
			return err
		}
	}
	return nil
}

// fetched is a page of lines, or why there is none.
type fetched struct {
	page api.Page
	err  error
}

// pages gives the pages between two positions, until the context is done.
func (p *Printer) pages(ctx context.Context, from, end int64) <-chan fetched {
	pages := make(chan fetched, 1)
	go func() {
		defer close(pages)
		for from < end {
			page, err := p.Project.Lines(ctx, api.LineQuery{From: from, Count: api.MostLines})
			select {
			case pages <- fetched{page, err}:
			case <-ctx.Done():
				return
			}
			if err != nil || len(page.Lines) == 0 {
				return
			}
			from = page.End
		}
	}()
	return pages
}
