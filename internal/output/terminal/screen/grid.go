package screen

import "unicode/utf8"

// Cell is a cell of a screen: a character and how it looks.
type Cell struct {
	text       uint32 // a character, or from numbered on, the number of a text
	Foreground Color
	Background Color
	Attributes Attributes
	Width      uint8 // columns: 1 or 2; 0 is the second half of a wide character
}

// IsBlank reports whether a cell shows nothing, in the terminal's own colors.
func (c Cell) IsBlank() bool { return c == empty }

// ASCII is the character of a cell, if it is printable ASCII; otherwise 0.
func (c Cell) ASCII() byte {
	if c.text >= ' ' && c.text < del {
		return byte(c.text)
	}
	return 0
}

// SameLook reports whether two cells differ at most in their characters.
func (c Cell) SameLook(other Cell) bool {
	return c.Foreground == other.Foreground && c.Background == other.Background && c.Attributes == other.Attributes
}

var empty = Cell{text: ' ', Width: 1}

// Color is a color; 0 is the terminal's own.
type Color uint32

const (
	palette Color = 1 << 24 // one of 256 colors
	rgb     Color = 2 << 24
)

// Index is the number of a color of the palette.
func (c Color) Index() (n uint8, ok bool) { return uint8(c), c>>24 == palette>>24 }

// RGB has the parts of a color that is not one of the palette.
func (c Color) RGB() (r, g, b uint8, ok bool) {
	return uint8(c >> 16), uint8(c >> 8), uint8(c), c>>24 == rgb>>24
}

// Attributes are what a character has besides colors.
type Attributes uint8

// The attributes (SGR).
const (
	Bold Attributes = 1 << iota
	Faint
	Italic
	Underlined
	Blink
	Reverse
	Concealed
	Struck
)

// grid is the cells of a screen.
type grid struct {
	cols, rows int
	cells      [][]Cell // by row
	changed    []bool   // by row
	moved      [][]Cell // rows that are being exchanged
}

func newGrid(cols, rows int) grid {
	g := grid{cols: cols, rows: rows, cells: make([][]Cell, rows), changed: make([]bool, rows)}
	all := make([]Cell, cols*rows)
	fill(all, empty)
	for y := range g.cells {
		g.cells[y] = all[y*cols : (y+1)*cols : (y+1)*cols]
	}
	g.touch()
	return g
}

func (g *grid) row(y int) []Cell { return g.cells[y] }

// touch notes that every row may have changed.
func (g *grid) touch() {
	for y := range g.changed {
		g.changed[y] = true
	}
}

func fill(cells []Cell, with Cell) {
	for i := range cells {
		cells[i] = with
	}
}

// split makes blanks of the halves of wide characters that are left when the cells from a column up to another are
// written.
func split(row []Cell, from, to int) {
	if from < len(row) && row[from].Width == 0 {
		row[from-1].text, row[from-1].Width = ' ', 1
	}
	if to < len(row) && row[to].Width == 0 {
		row[to].text, row[to].Width = ' ', 1
	}
}

// erase erases the cells of a row from a column up to another.
func (g *grid) erase(y, from, to int, with Cell) {
	row := g.row(y)
	split(row, from, to)
	fill(row[from:to], with)
	g.changed[y] = true
}

// eraseRows erases rows.
func (g *grid) eraseRows(from, to int, with Cell) {
	for y := from; y < to; y++ {
		fill(g.row(y), with)
		g.changed[y] = true
	}
}

// shiftRight inserts blanks; what leaves the row is lost.
func (g *grid) shiftRight(y, x, n int, with Cell) {
	row := g.row(y)
	n = min(n, len(row)-x)
	split(row, x, x)
	copy(row[x+n:], row[x:])
	fill(row[x:x+n], with)
	if end := &row[len(row)-1]; end.Width > 1 {
		end.text, end.Width = ' ', 1
	}
	g.changed[y] = true
}

// shiftLeft deletes cells; blanks come from the right.
func (g *grid) shiftLeft(y, x, n int, with Cell) {
	row := g.row(y)
	n = min(n, len(row)-x)
	split(row, x, x+n)
	copy(row[x:], row[x+n:])
	fill(row[len(row)-n:], with)
	g.changed[y] = true
}

// scrollUp moves the rows from one up to another; blank ones come from below.
func (g *grid) scrollUp(from, to, n int, with Cell) {
	n = min(n, to-from)
	g.moved = append(g.moved[:0], g.cells[from:from+n]...)
	copy(g.cells[from:], g.cells[from+n:to])
	copy(g.cells[to-n:], g.moved)
	g.scrolled(from, to, to-n, to, with)
}

// scrollDown moves the rows from one up to another; blank ones come from above.
func (g *grid) scrollDown(from, to, n int, with Cell) {
	n = min(n, to-from)
	g.moved = append(g.moved[:0], g.cells[to-n:to]...)
	copy(g.cells[from+n:to], g.cells[from:])
	copy(g.cells[from:], g.moved)
	g.scrolled(from, to, from, from+n, with)
}

// scrolled erases the rows that have come.
func (g *grid) scrolled(from, to, newFrom, newTo int, with Cell) {
	g.eraseRows(newFrom, newTo, with)
	for y := from; y < to; y++ {
		g.changed[y] = true
	}
}

// resize cuts or extends rows and columns at their ends.
func (g *grid) resize(cols, rows int) {
	resized := newGrid(cols, rows)
	for y := range min(rows, g.rows) {
		row := resized.row(y)
		copy(row, g.row(y))
		if end := &row[cols-1]; end.Width > 1 {
			end.text, end.Width = ' ', 1
		}
	}
	*g = resized
}

// numbered and what follows are the numbers of texts of several characters; Unicode ends before.
const numbered = utf8.MaxRune + 1

// texts are the texts of cells that have several characters, by number.
type texts struct {
	all     []string
	numbers map[string]uint32
}

func (t *texts) of(text uint32) string {
	if text >= numbered {
		return t.all[text-numbered]
	}
	return string(rune(text))
}

// number is the number of a text. Texts that no cell of the screen has any more are forgotten when there are many.
func (t *texts) number(text string, s *Screen) uint32 {
	if n, ok := t.numbers[text]; ok {
		return n
	}
	if len(t.all) > 2*s.cols*s.rows+100 {
		t.forget(s)
	}
	if t.numbers == nil {
		t.numbers = map[string]uint32{}
	}
	n := uint32(numbered + len(t.all))
	t.all, t.numbers[text] = append(t.all, text), n
	return n
}

// forget numbers the texts of cells again.
func (t *texts) forget(s *Screen) {
	old := *t
	s.repeated = 0
	*t = texts{numbers: map[string]uint32{}}
	for i := range s.grids {
		for _, row := range s.grids[i].cells {
			for x := range row {
				if c := &row[x]; c.text >= numbered {
					c.text = t.number(old.of(c.text), s)
				}
			}
		}
	}
}
