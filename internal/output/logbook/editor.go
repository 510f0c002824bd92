package logbook

import (
	"bytes"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/text/escape"
	"omnivigil/internal/text/pen"
)

// editor is one line of a terminal of unlimited width.
type editor struct {
	cells  []cell
	column int
	pen    pen.Pen
	leads  func(address string) bool // see Scanner.Leads
}

// tabStop is the distance of tab stops in columns.
const tabStop = 8

// cell is one column. The further columns of a wide character or a tab are empty.
type cell struct {
	text string
	pen  pen.Pen
}

// widest limits how far a number can move the cursor to the right: no terminal is wider. Text may be longer.
const widest = 4096

// write changes the line as a terminal would (ECMA-48), and nothing else.
func (e *editor) write(line []byte) {
	var state byte
	for len(line) > 0 {
		seq, width, n, next := ansi.DecodeSequence(line, state, nil)
		if n == 0 {
			break
		}
		state, line = next, line[n:]
		switch {
		case width > 0:
			e.put(shownText(seq), width)
		case len(seq) == 0:
		case seq[0] == '\t':
			e.put("\t", tabStop-e.column%tabStop)
		case seq[0] == '\r':
			e.column = 0
		case seq[0] == '\b':
			e.column = max(e.column-1, 0)
		case escape.IsColor(seq):
			e.pen.Selects(seq)
		case escape.IsLink(seq):
			if e.leads == nil || e.leads(escape.LinkAddress(seq)) {
				e.pen.Links(seq)
			} else {
				e.pen.Link = ""
			}
		case bytes.HasPrefix(seq, []byte("\x1b[")):
			e.control(seq[2:])
		case seq[0] >= 0x80:
			e.join(shownText(seq))
		}
	}
}

// shownText is a character as it may be shown; invalid bytes become a replacement character.
func shownText(seq []byte) string {
	return escape.Text(strings.ToValidUTF8(string(seq), "\uFFFD"))
}

// control applies a control sequence to the line: CUF, CUB, CHA, EL, ECH.
func (e *editor) control(body []byte) {
	last := len(body) - 1
	if last < 0 {
		return
	}
	n, err := strconv.Atoi(string(body[:last]))
	if err != nil && last > 0 {
		return
	}
	count := min(max(n, 1), widest)
	switch body[last] {
	case 'C':
		e.column = min(e.column+count, max(widest, e.column))
	case 'D':
		e.column = max(e.column-count, 0)
	case 'G', '`':
		e.column = count - 1
	case 'X':
		e.erase(e.column, e.column+count)
	case 'K':
		switch n {
		case 0:
			if e.column < len(e.cells) {
				e.split(e.column)
				e.cells = e.cells[:e.column]
			}
		case 1:
			e.erase(0, e.column+1)
		case 2:
			e.cells = e.cells[:0]
		}
	}
}

func (e *editor) erase(from, to int) {
	to = min(to, len(e.cells))
	if from >= to {
		return
	}
	e.split(from)
	e.split(to)
	for i := from; i < to; i++ {
		e.cells[i] = cell{text: " "}
	}
}

// split has no character or tab reach from before a column into it: one that does becomes
// spaces.
func (e *editor) split(column int) {
	if column >= len(e.cells) || e.cells[column].text != "" {
		return
	}
	first := column
	for first > 0 && e.cells[first].text == "" {
		first--
	}
	for i := first; i < len(e.cells) && (i == first || e.cells[i].text == ""); i++ {
		e.cells[i] = cell{text: " ", pen: e.cells[first].pen}
	}
}

// put writes a character at the cursor.
func (e *editor) put(text string, width int) {
	for len(e.cells) < e.column+width {
		e.cells = append(e.cells, cell{text: " "})
	}
	e.split(e.column)
	e.split(e.column + width)
	e.cells[e.column] = cell{text, e.pen}
	for i := 1; i < width; i++ {
		e.cells[e.column+i] = cell{}
	}
	e.column += width
}

// maxJoined is how many bytes a character may have with all that is joined to it; text that
// piles up more is no text.
const maxJoined = 128

// join adds what has no width of its own to the character before the cursor.
func (e *editor) join(text string) {
	if e.column == 0 || e.column > len(e.cells) {
		e.put(text, 1)
		return
	}
	at := e.column - 1
	for at > 0 && e.cells[at].text == "" {
		at--
	}
	if c := &e.cells[at]; len(c.text) < maxJoined {
		c.text += text
	}
}

// String returns the line as it stands.
func (e *editor) String() string {
	var b strings.Builder
	now := pen.Pen{}
	for _, c := range e.cells {
		if c.text != "" && c.pen != now {
			b.WriteString(c.pen.From(now))
			now = c.pen
		}
		b.WriteString(c.text)
	}
	b.WriteString(pen.Pen{}.From(now))
	return b.String()
}
