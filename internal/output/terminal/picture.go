package terminal

import (
	"fmt"
	"slices"
	"strconv"

	"omnivigil/internal/api"
	"omnivigil/internal/output/terminal/screen"
	"omnivigil/internal/text/escape"
)

// Picture returns what the terminal shows: its cells, cursor and title, and the modes that matter for typing. Secret
// returns the parts of a text to mask, as pairs of byte offsets; nil: none. A text that the right edge divides counts
// as one. Outside of Look it is empty.
func (t *Terminal) Picture(secret func(string) [][2]int) api.Screen {
	t.mu.Lock()
	defer t.mu.Unlock()
	p := api.Screen{Number: t.number, Size: t.size, Drawing: t.scan.drawing, Mouse: t.scan.mouse()}
	if t.screen == nil {
		return p
	}
	t.catchUp()
	p.Title = t.screen.Title()
	p.Cursor.Col, p.Cursor.Row = t.screen.Cursor()
	look, hidden := t.screen.Look()
	p.Cursor.Hidden, p.Cursor.Steady = hidden, look.Steady
	switch look.Shape {
	case screen.Underline:
		p.Cursor.Shape = "underline"
	case screen.Bar:
		p.Cursor.Shape = "bar"
	}
	t.last = lines(t.screen, t.last)
	p.Lines = t.last
	if secret != nil {
		p.Lines = masked(t.screen, p.Lines, secret)
	}
	return p
}

// lines are the rows of a screen; those that have not changed are reused.
func lines(s *screen.Screen, last []api.ScreenLine) []api.ScreenLine {
	_, rows := s.Size()
	all := make([]api.ScreenLine, rows)
	for y := range all {
		if y < len(last) && !s.Changed(y) {
			all[y] = last[y]
		} else {
			all[y] = api.ScreenLine{Row: y, Parts: parts(s, s.Row(y), nil)}
		}
	}
	s.Unchange()
	return all
}

// masked returns the rows of a screen with secrets masked in their cells.
func masked(s *screen.Screen, lines []api.ScreenLine, secret func(string) [][2]int) []api.ScreenLine {
	type cell struct{ row, col int }
	var text []byte
	var at []cell // of each byte of the text
	for y := range lines {
		for x, c := range s.Row(y) {
			text = s.AppendText(text, c)
			for len(at) < len(text) {
				at = append(at, cell{y, x})
			}
		}
	}
	hidden := map[int]map[int]bool{} // columns by row
	for _, span := range secret(string(text)) {
		for _, c := range at[span[0]:span[1]] {
			if hidden[c.row] == nil {
				hidden[c.row] = map[int]bool{}
			}
			hidden[c.row][c.col] = true
		}
	}
	if len(hidden) > 0 {
		lines = slices.Clone(lines)
	}
	for y, cols := range hidden {
		lines[y].Parts = parts(s, s.Row(y), cols)
	}
	return lines
}

// parts joins cells with the same style. Trailing blanks without a style are left out; the characters in hidden
// columns are masked.
func parts(s *screen.Screen, row []screen.Cell, hidden map[int]bool) []api.Cells {
	end := len(row)
	for end > 0 && row[end-1].IsBlank() {
		end--
	}
	var out []api.Cells
	var text []byte
	for from := 0; from < end; {
		width, first := 0, row[from]
		text = text[:0]
		for ; from < end && row[from].SameLook(first); from++ {
			text = appendShown(s, text, row[from], hidden[from])
			width += int(row[from].Width)
		}
		out = append(out, api.Cells{Text: string(text), Width: width, Style: styleOf(first)})
	}
	return out
}

// appendShown appends what is shown of a cell: what could act on a terminal is not.
func appendShown(s *screen.Screen, text []byte, c screen.Cell, hidden bool) []byte {
	const mask, unprintable, concealed = '*', '?', ' '
	with := byte(0)
	switch ascii := c.ASCII(); {
	case hidden:
		with = mask
	case c.Attributes&screen.Concealed != 0:
		with = concealed
	case ascii != 0:
		return append(text, ascii)
	default:
		before := len(text)
		text = s.AppendText(text, c)
		if shown := string(text[before:]); escape.Text(shown) == shown {
			return text
		}
		text, with = text[:before], unprintable
	}
	for range c.Width {
		text = append(text, with)
	}
	return text
}

// styleOf is the style of a cell in the contract's terms.
func styleOf(c screen.Cell) api.Style {
	has := func(a screen.Attributes) bool { return c.Attributes&a != 0 }
	return api.Style{
		Foreground: colorName(c.Foreground),
		Background: colorName(c.Background),
		Bold:       has(screen.Bold),
		Faint:      has(screen.Faint),
		Italic:     has(screen.Italic),
		Underline:  has(screen.Underlined),
		Blink:      has(screen.Blink),
		Reverse:    has(screen.Reverse),
		Struck:     has(screen.Struck),
	}
}

// colorName is a color in the contract's terms.
func colorName(c screen.Color) string {
	if n, ok := c.Index(); ok {
		return strconv.Itoa(int(n))
	}
	if r, g, b, ok := c.RGB(); ok {
		return fmt.Sprintf("#%02x%02x%02x", r, g, b)
	}
	return ""
}

// Changed returns the lines of a picture that differ from those of an earlier one.
func Changed(before, now []api.ScreenLine) []api.ScreenLine {
	changed := []api.ScreenLine{}
	for i, line := range now {
		if i >= len(before) || !slices.Equal(before[i].Parts, line.Parts) {
			changed = append(changed, line)
		}
	}
	return changed
}
