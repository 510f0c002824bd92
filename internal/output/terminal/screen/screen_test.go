package screen

import (
	"fmt"
	"strings"
	"testing"
	"unsafe"

	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"
)

// text is what a screen shows, without blanks at the ends of rows and empty rows at its end.
func (s *Screen) text() string {
	var rows []string
	for y := range s.rows {
		var row []byte
		for _, c := range s.Row(y) {
			row = s.AppendText(row, c)
		}
		rows = append(rows, strings.TrimRight(string(row), " "))
	}
	return strings.TrimRight(strings.Join(rows, "\n"), "\n")
}

// TestShows checks what is shown on eight columns and four rows, and where the cursor is. What tmux does is checked in
// the package that uses screens.
func TestShows(t *testing.T) {
	for name, test := range map[string]struct {
		written, text string
		x, y          int
	}{
		"the last column":            {"12345678", "12345678", 7, 0},
		"after the last column":      {"12345678\b_9", "123456_9", 7, 0},
		"a return after it":          {"12345678\r\nx", "12345678\nx", 1, 1},
		"on in the next row":         {"123456789", "12345678\n9", 1, 1},
		"no next row":                {"\x1b[?7l123456789", "12345679", 7, 0},
		"wide in the last column":    {"1234567渡", "1234567\n渡", 2, 1},
		"wide and no next row":       {"\x1b[?7l1234567渡", "1234567", 7, 0},
		"half of a wide one":         {"渡渡\x1b[2Gx\x1b[3Gy", " xy", 3, 0},
		"a wide one made from half":  {"ab渡\x1b[4D渡", "渡渡", 2, 0},
		"marks":                      {"e\u0301\u0323x", "e\u0301\u0323x", 2, 0},
		"a mark without letter":      {"\u0301x", "x", 1, 0},
		"a mark after a move":        {"e\x1b[2G\u0301x", "ex", 2, 0},
		"a wider picture":            {"❤\ufe0fx", "❤\ufe0fx", 3, 0},
		"a family":                   {"👩\u200d👧x", "👩\u200d👧x", 3, 0},
		"repeated":                   {"ab\x1b[2b渡\x1b[b", "abbb渡渡", 7, 0},
		"frames":                     {"\x1b(0lqk\x1b(Bq", "┌─┐q", 4, 0},
		"shifted":                    {"\x1b)0a\x0eq\x0fq", "a─q", 3, 0},
		"tabulators":                 {"\x1b[3g\x1b[3G\x1bH\r\tx\tz\x1b[Zy", "  y    z", 3, 0},
		"a region":                   {"a\r\nb\r\nc\r\nd\x1b[2;3r\x1b[3;1H\nx", "a\nc\nx\nd", 1, 2},
		"above a region":             {"a\r\nb\r\nc\x1b[2;3r\x1b[2;1H\x1bMx", "a\nx\nb", 1, 1},
		"counted from a region":      {"\x1b[2;3r\x1b[?6hx\x1b[9;1Hy", "\nx\ny", 1, 2},
		"a region of one row":        {"\x1b[2;2rx", "x", 1, 0},
		"moving stops at the region": {"\x1b[2;3r\x1b[2H\x1b[9Ax\x1b[9By", "\nx\n y", 2, 2},
		"lines inserted, deleted":    {"a\r\nb\r\nc\x1b[1H\x1b[L\x1b[4H\x1b[M\x1b[3H\x1b[MX", "\na\nX", 1, 2},
		"inserted":                   {"渡ab渡\x1b[2G\x1b[2@x", " x  ab渡", 2, 0},
		"deleted":                    {"渡ab渡\x1b[2G\x1b[Px", " xb渡", 2, 0},
		"insert mode":                {"abc\r\x1b[4hxy\x1b[4lz", "xyzbc", 3, 0},
		"erased characters":          {"abcdef\x1b[2G\x1b[3Xx", "ax  ef", 2, 0},
		"erased from the cursor":     {"abc\r\ndef\x1b[1;2H\x1b[J", "a", 1, 0},
		"erased to the cursor":       {"abc\r\ndef\x1b[2;2H\x1b[1J", "\n  f", 1, 1},
		"lines feed and return":      {"ab\n\x1b[20hc\nd", "ab\n  c\nd", 1, 2},
		"saved":                      {"ab\x1b7\x1b[31mcd\x1b8x", "abxd", 3, 0},
		"restored, but never saved":  {"abc\x1b8x", "xbc", 1, 0},
		"a screen of its own":        {"ab\x1b[?1049hxyz\x1b[?1049lc", "abc", 3, 0},
		"on its own screen":          {"ab\x1b[?1049hxy", "  xy", 4, 0},
		"left as it was":             {"ab\x1b[?47h\x1b[2Kxy\x1b[?47lc\x1b[?47h", "  xy", 5, 0},
		"the letter E":               {"\x1b#8", strings.Repeat("EEEEEEEE\n", 3) + "EEEEEEEE", 0, 0},
		"reset":                      {"abc\x1b[?7l\x1bcx", "x", 1, 0},
		"modes reset":                {"\x1b[?7l\x1b[4h\x1b[2;3r\x1b[!p12345678x", "12345678\nx", 1, 1},
		"controls in a sequence":     {"ab\x1b[\b1Cx", "abx", 3, 0},
		"an interrupted sequence":    {"\x1b[3\x18m\x1b[3\x1b[1Cx", "m x", 3, 0},
		"unknown sequences": {"\x1b[>4;2m\x1b[=1u\x1b[1;2;3;4*z\x1b[<9<m\x1bP+q54\x1b\\\x1b_a\x1b\\\x1bkname\x1b\\" +
			"\x1b]52;c;eA==\x07\x1b[" + strings.Repeat("1;", 40) + "mx\x1b%Gy", "xy", 2, 0},
		"a string that is cut off": {"\x1bPabc\x1b[2Cx\x1b]0;t\x1b[Cy\x1b]0;t\x18z", "  x yz", 6, 0},
		"not UTF-8":                {"a\xffb\xe6\xb8c\xc2", "a\ufffdb\ufffd\ufffdc", 6, 0},
		"deleted is nothing":       {"a\x7fb", "ab", 2, 0},
	} {
		t.Run(name, func(t *testing.T) {
			for piece := range 3 {
				s := New(8, 4)
				for rest := []byte(test.written); len(rest) > 0; {
					n := len(rest)
					if piece > 0 {
						n = min(n, piece)
					}
					s.Write(rest[:n])
					rest = rest[n:]
				}
				x, y := s.Cursor()
				assert.Equal(t, test.text, s.text())
				assert.Equal(t, [2]int{test.x, test.y}, [2]int{x, y})
			}
		})
	}
}

// TestStyles checks what cells look like.
func TestStyles(t *testing.T) {
	red, all := palette|1, rgb|0x010203
	for written, want := range map[string]Cell{
		"\x1b[31;1;3m":                      {Foreground: red, Attributes: Bold | Italic},
		"\x1b[1;2;4;5;7;8;9m\x1b[22;25;28m": {Attributes: Underlined | Reverse | Struck},
		"\x1b[97;104m":                      {Foreground: palette | 15, Background: palette | 12},
		"\x1b[38;5;1;48;2;1;2;3m":           {Foreground: red, Background: all},
		"\x1b[38:2::1:2:3;48:5:1m":          {Foreground: all, Background: red},
		"\x1b[38:2:1:2:3m":                  {Foreground: all},
		"\x1b[58;5;9;4:3m":                  {Attributes: Underlined},
		"\x1b[4;4:0;38;9;31m":               {Foreground: red},
		"\x1b[31;41;38m\x1b[39;49m":         {},
		"\x1b[1m\x1b[m\x1b[31m\x1b[;3m":     {Attributes: Italic},
	} {
		s := New(3, 1)
		s.Write([]byte(written + "x"))
		want.text, want.Width = 'x', 1
		assert.Equal(t, want, s.Row(0)[0], "%q", written)
	}
	s := New(3, 1)
	s.Write([]byte("\x1b[31;41mx\x1b[K"))
	assert.Equal(t, Cell{text: ' ', Width: 1, Background: red}, s.Row(0)[2], "what is erased has the background")
	assert.Equal(t, 16, int(unsafe.Sizeof(Cell{})))
}

// TestAnswers checks the answers to questions.
func TestAnswers(t *testing.T) {
	for written, want := range map[string]string{
		"ab\x1b[6n": "\x1b[1;3R",
		"\x1b[2;3r\x1b[?6h\x1b[2H\x1b[6n\x1b[?6n": "\x1b[2;1R\x1b[?2;1R",
		"\x1b[5n\x1b[?15n":                        "\x1b[0n",
		"\x1b[c\x1b[>c\x1b[=c":                    "\x1b[?62;1;6;22c\x1b[>1;10;0c",
		"\x1b[?25$p\x1b[?2026$p\x1b[?9$p":         "\x1b[?25;1$y\x1b[?2026;2$y\x1b[?9;0$y",
		"\x1b[4h\x1b[4$p\x1b[20$p\x1b[2$p":        "\x1b[4;1$y\x1b[20;2$y\x1b[2;0$y",
		"\x1b]10;?\x07\x1b]11;?\x1b\\":            "\x1b]10;rgb:ffff/ffff/ffff\a\x1b]11;rgb:0000/0000/0000\a",
		"\x1b]11;#ff0000\a\x1b]11;?\a":            "\x1b]11;rgb:ffff/0000/0000\a",
		"\x1b]11;#ff0000\a\x1b]111\a\x1b]11;?\a":  "\x1b]11;rgb:0000/0000/0000\a",
	} {
		s := New(8, 4)
		s.Write([]byte(written))
		assert.Equal(t, want, string(s.Answers()), "%q", written)
		assert.Empty(t, s.Answers())
	}
}

// TestTitleAndCursor checks what is told besides cells.
func TestTitleAndCursor(t *testing.T) {
	s := New(8, 4)
	s.Write([]byte("\x1b]2;ebb; flood\x07\x1b]1;icon\x07\x1b[4 q\x1b[?25l"))
	assert.Equal(t, "ebb; flood", s.Title())
	look, hidden := s.Look()
	assert.Equal(t, CursorLook{Underline, true}, look)
	assert.True(t, hidden)
	s.Write([]byte("\x1bc"))
	look, hidden = s.Look()
	assert.Equal(t, CursorLook{}, look)
	assert.False(t, hidden)
}

// TestResize keeps what is above the cursor, on both screens.
func TestResize(t *testing.T) {
	s := New(8, 4)
	s.Write([]byte("a\r\nb\r\nc\r\n123渡"))
	s.Write([]byte("\x1b[?1049h\x1b[Hown"))
	s.Resize(4, 2)
	assert.Equal(t, "own", s.text())
	s.Write([]byte("\x1b[?1049l"))
	assert.Equal(t, "c\n123", s.text())
	x, y := s.Cursor()
	assert.Equal(t, [2]int{3, 1}, [2]int{x, y})
	s.Resize(20, 3)
	s.Write([]byte("\r\tx\tz"))
	assert.Equal(t, "c\n123     x       z", s.text())
}

// TestChanged checks that no row changes unnoticed, and that most do not.
func TestChanged(t *testing.T) {
	s := New(8, 4)
	s.Unchange()
	s.Write([]byte("\x1b[2;2Hx"))
	assert.Equal(t, []bool{false, true, false, false}, s.changed)
	s.Unchange()
	s.Write([]byte("\x1b[3;4r\x1b[4;1H\n"))
	assert.Equal(t, []bool{false, false, true, true}, s.changed)
	s.Unchange()
	s.Write([]byte("\x1b[?1049h"))
	assert.NotContains(t, s.changed, false)
}

// TestManyTexts forgets texts of several characters that are no longer shown.
func TestManyTexts(t *testing.T) {
	s := New(4, 2)
	for i := range 3_000 {
		s.Write(fmt.Appendf(nil, "\x1b[He\u0301\x1b[2;%dHa%c", i%4+1, rune(0x300+i%100)))
		s.Write(fmt.Appendf(nil, "%c", rune(0x320+i%50)))
		require.Equal(t, "e\u0301", s.texts.of(s.Row(0)[0].text))
	}
	assert.LessOrEqual(t, len(s.texts.all), 2*8+102)
	s.Write([]byte("\x1b[Ha" + strings.Repeat("\u0301", 1_000)))
	assert.LessOrEqual(t, len(s.texts.of(s.Row(0)[0].text)), longestText)
}

// FuzzWrite writes any bytes, whole and in pieces: the screens are the same, no half of a wide character is left, and
// no row has changed unnoticed.
func FuzzWrite(f *testing.F) {
	f.Add([]byte("渡し\x1b[100@\x1b[100P\x1b[3L\x1b[100M\x1b[2X\x1b[5b\x1b#8\x1b[?6h\x1b[9999;9999H\xff\xfe"), uint8(3))
	f.Add([]byte("e\u0301👩\u200d👧\x1b[4h渡\x1b[?1049h\x1b[2;3r\x1bM\n\x1b[?7l渡渡渡渡\x1b[2S\x1b[T\x1b[3Z"), uint8(1))
	f.Add([]byte("\x1b]0;a\x1b\\\x1bPq\x1b\\\x1b[38:2::1:2:3m\x1b[6n\x1b[1;2$p\x1b[?7h\x1b(0qx\x0e\x1bc"), uint8(2))
	f.Fuzz(func(t *testing.T, written []byte, piece uint8) {
		whole, cut := New(9, 4), New(9, 4)
		whole.Write(written)
		for rest := written; len(rest) > 0; {
			n := min(len(rest), int(piece)+1)
			before, shown := cut.copy(), cut.shown
			cut.Unchange()
			cut.Write(rest[:n])
			rest = rest[n:]
			for y, row := range cut.copy() {
				require.True(t, cut.Changed(y) || assert.ObjectsAreEqual(before[y], row) && cut.shown == shown)
				for x, c := range row {
					half := x+1 < len(row) && row[x+1].Width == 0
					require.Equal(t, c.Width == 2, half, "row %d, column %d", y, x)
				}
				require.NotZero(t, row[0].Width)
			}
		}
		require.Equal(t, whole.text(), cut.text())
		require.Equal(t, whole.Answers(), cut.Answers())
		whole.Resize(int(piece)%12+1, 3)
		whole.Write(written)
	})
}

// copy returns the cells.
func (s *Screen) copy() [][]Cell {
	var all [][]Cell
	for y := range s.rows {
		all = append(all, append([]Cell(nil), s.Row(y)...))
	}
	return all
}
