package logbook

import (
	"bytes"
	"strconv"
	"strings"

	"github.com/charmbracelet/x/ansi"

	"omnivigil/internal/visible"
)

// pen is how text is written: colours (SGR, ECMA-48) since the last reset, and the
// address of a link (OSC 8).
type pen struct{ colours, link string }

const (
	plainColours = "\x1b[0m"
	noLink       = "\x1b]8;;\x1b\\"
)

// String returns the sequences that select the pen, in a line that begins.
func (p pen) String() string { return p.from(pen{}) }

// from returns the sequences that turn another pen into this one.
func (p pen) from(other pen) string {
	var b strings.Builder
	if p.colours != other.colours {
		more, only := strings.CutPrefix(p.colours, other.colours)
		if !only {
			b.WriteString(plainColours)
			more = p.colours
		}
		if p.colours == "" {
			more = ""
		}
		b.WriteString(more)
	}
	if p.link != other.link {
		if b.WriteString(p.link); p.link == "" {
			b.WriteString(noLink)
		}
	}
	return b.String()
}

// select takes up a sequence that selects colours.
func (p *pen) selects(seq string) {
	const longestPen = 200
	if seq == "\x1b[m" || seq == plainColours || len(p.colours)+len(seq) > longestPen {
		p.colours = ""
		return
	}
	p.colours += seq
}

// editor is one line of a terminal that is as wide as it has to be.
type editor struct {
	cells  []cell
	column int
	pen    pen
}

// cell is one column. The second column of a wide character is empty.
type cell struct {
	text string
	pen  pen
}

// widest bounds how far the cursor can be moved to the right.
const widest = longest

// write does to the line what a terminal would (ECMA-48), and nothing beyond it.
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
			e.put("\t", 1)
		case seq[0] == '\r':
			e.column = 0
		case seq[0] == '\b':
			e.column = max(e.column-1, 0)
		case visible.IsColour(seq):
			e.pen.selects(string(seq))
		case visible.IsLink(seq):
			if e.pen.link = string(seq); isLinkEnd(seq) {
				e.pen.link = ""
			}
		case bytes.HasPrefix(seq, []byte("\x1b[")):
			e.control(seq[2:])
		case seq[0] >= 0x80:
			e.join(shownText(seq))
		}
	}
}

// shownText is a character as it may be shown; broken bytes become a sign for that.
func shownText(seq []byte) string {
	return visible.Text(strings.ToValidUTF8(string(seq), "\uFFFD"))
}

func isLinkEnd(seq []byte) bool {
	return bytes.HasSuffix(seq, []byte(";\x07")) || bytes.HasSuffix(seq, []byte(";\x1b\\"))
}

// control does what a control sequence does to the line: CUF, CUB, CHA, EL, ECH.
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
		e.column = min(e.column+count, widest)
	case 'D':
		e.column = max(e.column-count, 0)
	case 'G', '`':
		e.column = count - 1
	case 'X':
		e.erase(e.column, e.column+count)
	case 'K':
		switch n {
		case 0:
			e.cells = e.cells[:min(e.column, len(e.cells))]
		case 1:
			e.erase(0, e.column+1)
		case 2:
			e.cells = e.cells[:0]
		}
	}
}

func (e *editor) erase(from, to int) {
	for i := from; i < min(to, len(e.cells)); i++ {
		e.cells[i] = cell{text: " "}
	}
}

// put writes a character at the cursor.
func (e *editor) put(text string, width int) {
	for len(e.cells) < e.column+width {
		e.cells = append(e.cells, cell{text: " "})
	}
	e.cells[e.column] = cell{text, e.pen}
	for i := 1; i < width; i++ {
		e.cells[e.column+i] = cell{}
	}
	e.column += width
}

// join adds what has no width of its own to the character before the cursor.
func (e *editor) join(text string) {
	if e.column == 0 || e.column > len(e.cells) {
		e.put(text, 1)
		return
	}
	e.cells[e.column-1].text += text
}

// String returns the line as it stands.
func (e *editor) String() string {
	var b strings.Builder
	now := pen{}
	for _, c := range e.cells {
		if c.text != "" && c.pen != now {
			b.WriteString(c.pen.from(now))
			now = c.pen
		}
		b.WriteString(c.text)
	}
	b.WriteString(pen{}.from(now))
	return b.String()
}
