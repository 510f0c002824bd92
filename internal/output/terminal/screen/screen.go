// Package screen is the screen of a character terminal: it takes what a program writes, and has the cells that the
// program means to show, the cursor, and the answers to the program's questions.
//
// It understands UTF-8 and what programs use of ECMA-48 (control functions), of DEC's VT220 and VT420, and of "Xterm
// Control Sequences" (Moy and Dickey), which the names of sequences in comments refer to. It has no lines that have
// scrolled away, no images, and no lines of double width or height; columns are not limited by margins. Sequences that
// it does not know are skipped, whatever their length.
//
// A cell has no pointers, rows are moved by exchanging them, and runs of ASCII are stored without looking at each
// character's width, so a screen costs little memory and time. Start reading at Screen, then parser.go.
package screen

import (
	"unicode/utf8"

	"github.com/charmbracelet/x/ansi"
)

// Screen is one screen. Its methods must not be called at the same time.
type Screen struct {
	parser
	*grid          // the one that is shown
	grids  [2]grid // the main screen, and the program's own (alternate) one, without cells until it is shown
	shown  int     // which one is shown
	cursor cursor
	saved  [2]cursor // by DECSC, for each

	top, under int    // the scroll region: its first row, and the row after its last
	stops      []bool // tabulator stops
	last       place  // of the character that was written last

	modes
	look     CursorLook
	hidden   bool
	title    string
	repeated uint32         // by REP: the last character
	colors   map[int]string // that were set by OSC 10 to 12
	answers  []byte
	texts    texts
}

// modes are modes that a program can set. Those that are usually set are noted when they are not.
type modes struct {
	told     map[int]bool // DEC's, other than false, for programs that ask
	noWrap   bool         // DECAWM
	insert   bool         // IRM
	newLines bool         // LNM: a line feed includes a carriage return
}

func defaultModes() modes { return modes{told: map[int]bool{autoWrap: true, cursorShown: true}} }

// cursor is what DECSC saves.
type cursor struct {
	x, y    int
	full    bool // the last column was written: the next character goes into the next row
	pen     Cell // what a character is written with
	origin  bool // DECOM: rows count from the top of the scroll region
	sets    [4]charset
	shifted int // the set in use
}

// place is a cell, if any.
type place struct {
	x, y  int
	valid bool
}

// CursorLook is the look of the cursor (DECSCUSR).
type CursorLook struct {
	Shape  CursorShape
	Steady bool
}

// CursorShape is the shape of the cursor.
type CursorShape int

// The shapes.
const (
	Block CursorShape = iota
	Underline
	Bar
)

// New returns an empty screen. Each size is at least 1.
func New(cols, rows int) *Screen {
	s := &Screen{}
	s.reset(max(cols, 1), max(rows, 1))
	return s
}

// reset is the initial state (RIS).
func (s *Screen) reset(cols, rows int) {
	*s = Screen{
		grids: [2]grid{newGrid(cols, rows)}, under: rows, stops: defaultStops(nil, cols),
		modes: defaultModes(), colors: map[int]string{}, answers: s.answers,
	}
	s.grid = &s.grids[main]
	s.cursor.pen = empty
	s.saved = [2]cursor{s.cursor, s.cursor}
}

// Write takes what the program writes, in pieces of any size.
func (s *Screen) Write(p []byte) {
	for at := 0; at < len(p); {
		switch {
		case len(s.cut) > 0:
			at += s.complete(p[at:])
		case s.state == ground && p[at] >= ' ':
			at += s.print(p[at:])
		default:
			s.advance(p[at])
			at++
		}
	}
}

// complete adds the first byte of p to a character of which only the first bytes have come, and returns how many
// bytes it has used.
func (s *Screen) complete(p []byte) int {
	s.cut = append(s.cut, p[0])
	if !utf8.FullRune(s.cut) {
		return 1
	}
	r, n := utf8.DecodeRune(s.cut)
	bytes := len(s.cut)
	s.cut = s.cut[:0]
	if n == bytes {
		s.character(r)
		return 1
	}
	for range bytes - 1 { // none of them is a character
		s.character(utf8.RuneError)
	}
	return 0
}

// print writes the characters at the beginning of p, at least one, and returns how many bytes they were.
func (s *Screen) print(p []byte) int {
	n := 0
	for n < len(p) && p[n] >= ' ' && p[n] < del {
		n++
	}
	switch {
	case n > 0:
		s.ascii(p[:n])
		return n
	case p[0] == del:
		return 1
	case !utf8.FullRune(p):
		s.cut = append(s.cut[:0], p...)
		return len(p)
	}
	r, n := utf8.DecodeRune(p)
	s.character(r)
	return n
}

// ascii writes printable ASCII characters.
func (s *Screen) ascii(p []byte) {
	if set := s.cursor.sets[s.cursor.shifted]; set != nil {
		for _, c := range p {
			s.put(uint32(set.of(c)), 1)
		}
		return
	}
	for len(p) > 0 {
		if s.cursor.full {
			s.goOn()
		}
		n := min(len(p), s.cols-s.cursor.x)
		row := s.room(n)
		cell := s.cursor.pen
		for i, c := range p[:n] {
			cell.text = uint32(c)
			row[i] = cell
		}
		s.moveOn(n)
		s.repeated = uint32(p[n-1])
		p = p[n:]
	}
}

// character writes a character that is not ASCII, or adds it to the one before, if they belong together.
func (s *Screen) character(r rune) {
	if width := plainWidth(r); width > 0 {
		s.put(uint32(r), width)
		return
	}
	if s.last.valid && s.join(r) {
		return
	}
	text := string(r)
	if _, width := ansi.FirstGraphemeCluster(text, ansi.GraphemeWidth); width > 0 {
		s.put(uint32(r), width)
	}
}

// longestText limits how many bytes belong to one cell: what is stacked further is not shown.
const longestText = 64

// join adds a character to the one before, and reports whether it belongs there.
func (s *Screen) join(r rune) bool {
	cell := &s.row(s.last.y)[s.last.x]
	before := s.texts.of(cell.text)
	text := before + string(r)
	cluster, width := ansi.FirstGraphemeCluster(text, ansi.GraphemeWidth)
	switch {
	case len(cluster) < len(text):
		return false
	case len(text) > longestText:
		return true
	case width > int(cell.Width) && s.last.x+width <= s.cols:
		s.cursor.x, s.cursor.y, s.cursor.full = s.last.x, s.last.y, false
		s.put(s.texts.number(text, s), width)
		return true
	}
	cell.text = s.texts.number(text, s)
	s.changed[s.last.y] = true
	return true
}

// put writes a character of one or two columns.
func (s *Screen) put(text uint32, width int) {
	if width > s.cols || s.noWrap && s.cursor.x+width > s.cols {
		return
	}
	if s.cursor.full || s.cursor.x+width > s.cols {
		s.goOn()
	}
	row := s.room(width)
	s.repeated = text
	row[0] = s.cursor.pen
	row[0].text, row[0].Width = text, uint8(width)
	if width > 1 {
		row[1] = s.cursor.pen
		row[1].text, row[1].Width = 0, 0
	}
	s.moveOn(width)
	s.last.x -= width - 1
}

// room makes room for so many columns at the cursor, and returns them.
func (s *Screen) room(n int) []Cell {
	row := s.row(s.cursor.y)
	if s.insert {
		s.shiftRight(s.cursor.y, s.cursor.x, n, s.blank())
	}
	split(row, s.cursor.x, s.cursor.x+n)
	s.changed[s.cursor.y] = true
	return row[s.cursor.x:]
}

// moveOn moves the cursor after characters that were written.
func (s *Screen) moveOn(n int) {
	s.cursor.x += n
	s.last = place{s.cursor.x - 1, s.cursor.y, true}
	if s.cursor.x == s.cols {
		s.cursor.x--
		s.cursor.full = !s.noWrap
	}
}

// goOn continues in the next row.
func (s *Screen) goOn() {
	s.cursor.x, s.cursor.full = 0, false
	s.index()
}

// index moves down; at the end of the scroll region, it scrolls (IND).
func (s *Screen) index() {
	switch {
	case s.cursor.y == s.under-1:
		s.scrollUp(s.top, s.under, 1, s.blank())
	case s.cursor.y < s.rows-1:
		s.cursor.y++
	}
}

// reverseIndex moves up; at the beginning of the scroll region, it scrolls (RI).
func (s *Screen) reverseIndex() {
	switch {
	case s.cursor.y == s.top:
		s.scrollDown(s.top, s.under, 1, s.blank())
	case s.cursor.y > 0:
		s.cursor.y--
	}
}

// blank is what is erased: it has the background in use, as in xterm.
func (s *Screen) blank() Cell {
	c := empty
	c.Background = s.cursor.pen.Background
	return c
}

// The screens.
const (
	main = 0
	own  = 1
)

// Resize sets another size. Rows are cut or extended; of the main screen, the rows above the cursor go first.
func (s *Screen) Resize(cols, rows int) {
	cols, rows = max(cols, 1), max(rows, 1)
	at := &s.cursor
	if s.shown == own {
		at = &s.saved[main]
	}
	if over := at.y - (rows - 1); over > 0 {
		s.grids[main].scrollUp(0, s.rows, over, empty)
		at.y -= over
	}
	for i := range s.grids {
		if g := &s.grids[i]; g.cells != nil {
			g.resize(cols, rows)
		}
	}
	s.stops = defaultStops(s.stops, cols)
	s.top, s.under, s.last.valid = 0, rows, false
	for _, c := range []*cursor{&s.cursor, &s.saved[main], &s.saved[own]} {
		c.x, c.y, c.full = min(c.x, cols-1), min(c.y, rows-1), false
	}
}

// show shows the main screen, or the program's own one.
func (s *Screen) show(which int) {
	if s.shown == which {
		return
	}
	if s.shown = which; s.grids[which].cells == nil {
		s.grids[which] = newGrid(s.cols, s.rows)
	}
	s.grid = &s.grids[which]
	s.touch()
}

// Size is the size.
func (s *Screen) Size() (cols, rows int) { return s.cols, s.rows }

// Cursor is the position of the cursor, from 0.
func (s *Screen) Cursor() (x, y int) { return s.cursor.x, s.cursor.y }

// Look is the look of the cursor.
func (s *Screen) Look() (look CursorLook, hidden bool) { return s.look, s.hidden }

// Title is the title that the program has set. It may contain anything.
func (s *Screen) Title() string { return s.title }

// OnOwn reports whether the program's own (alternate) screen is shown.
func (s *Screen) OnOwn() bool { return s.shown == own }

// Row has the cells of a row. It is valid until the next call that changes the screen.
func (s *Screen) Row(y int) []Cell { return s.row(y) }

// Changed reports whether a row has changed since Unchange, or may have.
func (s *Screen) Changed(y int) bool { return s.changed[y] }

// Unchange makes all rows unchanged.
func (s *Screen) Unchange() { clear(s.changed) }

// AppendText appends the characters of a cell; the second half of a wide character has none.
func (s *Screen) AppendText(to []byte, c Cell) []byte {
	switch {
	case c.Width == 0:
		return to
	case c.text >= numbered:
		return append(to, s.texts.of(c.text)...)
	}
	return utf8.AppendRune(to, rune(c.text))
}

// Answers returns the answers to what the program has asked since the last call.
func (s *Screen) Answers() []byte {
	answers := s.answers
	s.answers = nil
	return answers
}
