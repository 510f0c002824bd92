// Package plain is the face for pipes, files and people who want one stream: it
// prints every line of the log once, in the form "15:04:05.000 NAME  text".
package plain

import (
	"bufio"
	"fmt"
	"io"
	"os"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/logbook"
	"omnivigil/internal/visible"
)

// self is the name that Omnivigil's own events carry.
const self = "omnivigil"

// Printer prints a logbook from its beginning.
type Printer struct {
	Book   *logbook.Book
	Out    io.Writer
	Width  int  // of the column of names
	Colour bool // keep colours and links
	next   int64
	told   bool // that the log cannot be written
}

// Follow prints lines as they come until done is closed and all are printed. It
// returns early when Out refuses a write.
func (p *Printer) Follow(done <-chan struct{}) error {
	grown, release := p.Book.Grown()
	defer release()
	for {
		if err := p.catchUp(); err != nil {
			return err
		}
		if err := p.Book.Err(); (err != nil) != p.told {
			if p.told = err != nil; p.told {
				fmt.Fprintln(os.Stderr, self+":", err)
			} else {
				fmt.Fprintln(os.Stderr, self+": the log can be written again")
			}
		}
		select {
		case <-grown:
		case <-done:
			return p.catchUp()
		}
	}
}

func (p *Printer) catchUp() error {
	const at = 1000
	out := bufio.NewWriter(p.Out)
	for {
		lines, err := p.Book.Window(logbook.All, p.next, at)
		if err != nil {
			return err
		}
		if len(lines) == 0 {
			return out.Flush()
		}
		for _, l := range lines {
			fmt.Fprintln(out, p.format(l))
		}
		p.next += int64(len(lines))
	}
}

func (p *Printer) format(l logbook.Line) string {
	name, text := l.Unit, l.Text
	if l.Stream != logbook.Output {
		name = self
		if l.Unit != "" {
			text = l.Unit + " " + l.Text
		}
	}
	if !p.Colour {
		text = ansi.Strip(text)
	}
	text = visible.Styled(text)
	return fmt.Sprintf("%s %-*s  %s", l.At.Format("15:04:05.000"), max(p.Width, len(self)), name, text)
}
