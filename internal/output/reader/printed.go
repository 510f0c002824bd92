package reader

import (
	"bytes"

	"omnivigil/internal/output/logbook"
	"omnivigil/internal/output/structured"
	"omnivigil/internal/text/escape"
)

// printer turns lines that tools write for programs into what they print for people. The log keeps them as they were
// written.
type printer struct {
	raw       bool                   // it changes nothing
	asWritten func(unit string) bool // nor for these units; nil: for no other reason
}

// printed returns the text of a line for people. It returns false if the line prints nothing.
func (p printer) printed(e *logbook.Entry, text []byte) ([]byte, bool) {
	if p.raw || e.Stream != logbook.Output || len(text) == 0 || text[0] != '{' ||
		p.asWritten != nil && p.asWritten(e.Unit) {
		return text, true
	}
	said, prints, is := structured.TestEvent(text)
	if !is {
		return text, true
	}
	return []byte(escape.Styled(said)), prints
}

// block appends the whole lines of a batch, from one number up to another, with their ends.
func (p printer) block(to []byte, b *logbook.Batch, from, end int64) []byte {
	b.Each(func(number int64, text, whole []byte) bool {
		if number < from || number >= end {
			return number < end
		}
		if shown, prints := p.printed(b.Entry, text); prints {
			to = append(append(append(to, whole[:len(whole)-len(text)]...), shown...), '\n')
		}
		return true
	})
	return to
}

// text returns the whole lines of a chunk, from one number up to another, with their ends.
func (p printer) text(c *logbook.Chunk, from, end int64) (text []byte) {
	if !p.raw && structured.MayBeTestEvents(c.Text) {
		for i := range c.Batches {
			text = p.block(text, &c.Batches[i], from, end)
		}
		return text
	}
	text = c.Text // nearly always: a copy is much faster
	if skip := from - c.First; skip > 0 {
		text = afterLines(text, skip)
	}
	if over := c.End - end; over > 0 {
		text = text[:len(text)-len(afterLines(text, end-max(c.First, from)))]
	}
	if len(text) > 0 && text[len(text)-1] != '\n' {
		text = append(text, '\n')
	}
	return text
}

// afterLines returns what follows so many lines.
func afterLines(text []byte, lines int64) []byte {
	for ; lines > 0; lines-- {
		i := bytes.IndexByte(text, '\n')
		if i < 0 {
			return nil
		}
		text = text[i+1:]
	}
	return text
}
