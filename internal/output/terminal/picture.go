package terminal

import (
	"fmt"
	"image/color"
	"slices"
	"strconv"
	"strings"

	uv "github.com/charmbracelet/ultraviolet"
	"github.com/charmbracelet/x/ansi"
	"github.com/charmbracelet/x/vt"

	"omnivigil/internal/api"
	"omnivigil/internal/text/escape"
)

// Picture returns what the terminal shows: its cells, cursor and title, and the modes that matter for typing. Secret
// returns the parts of a text to mask, as pairs of byte offsets; nil: none. A text that the right edge divides counts
// as one. Outside of Look it is empty.
func (t *Terminal) Picture(secret func(string) [][2]int) api.Screen {
	t.mu.Lock()
	defer t.mu.Unlock()
	p := api.Screen{Number: t.number, Size: t.size, Drawing: t.scan.drawing, Mouse: t.scan.mouse()}
	e := t.emulator
	if e == nil {
		return p
	}
	t.catchUp()
	e = t.emulator // it may be another one now
	p.Title = e.title
	at := e.CursorPosition()
	p.Cursor = api.Cursor{Col: at.X, Row: at.Y, Hidden: e.CursorHidden()}
	style, blinks := e.CursorStyle()
	p.Cursor.Steady = !blinks
	switch style {
	case vt.CursorUnderline:
		p.Cursor.Shape = "underline"
	case vt.CursorBar:
		p.Cursor.Shape = "bar"
	}
	if secret == nil {
		p.Lines = e.lines()
		return p
	}
	cells := make([][]uv.Cell, e.Height())
	for y := range cells {
		cells[y] = e.row(nil, y)
	}
	hide(cells, secret)
	p.Lines = make([]api.ScreenLine, len(cells))
	for row := range cells {
		p.Lines[row] = api.ScreenLine{Row: row, Parts: parts(cells[row])}
	}
	return p
}

// lines are the rows; those that were not written to since are reused from the last picture.
func (e *emulator) lines() []api.ScreenLine {
	lines := make([]api.ScreenLine, e.Height())
	touched := e.Touched()
	if len(e.last) != len(lines) {
		e.other = true
	}
	var row []uv.Cell
	for y := range lines {
		if !e.other && (y >= len(touched) || touched[y] == nil) {
			lines[y] = e.last[y]
			continue
		}
		row = e.row(row, y)
		lines[y] = api.ScreenLine{Row: y, Parts: parts(row)}
	}
	clear(touched)
	e.last, e.other = lines, false
	return lines
}

// row copies a row; the second half of a wide character has no width.
func (e *emulator) row(into []uv.Cell, y int) []uv.Cell {
	row := slices.Grow(into[:0], e.Width())[:e.Width()]
	for x := 0; x < len(row); x++ {
		c := e.CellAt(x, y)
		if c == nil || c.Width == 0 || c.Content == "" || x+c.Width > len(row) {
			row[x] = uv.EmptyCell
			if c != nil {
				row[x].Style = c.Style
			}
			continue
		}
		row[x] = *c
		if !isPlain(c.Content) && escape.Text(c.Content) != c.Content {
			row[x].Content = strings.Repeat("?", c.Width)
		}
		for range c.Width - 1 {
			x++
			row[x] = uv.Cell{Style: c.Style}
		}
	}
	return row
}

// isPlain reports whether a cell has a printable ASCII character, as most have.
func isPlain(content string) bool {
	return len(content) == 1 && content[0] >= ' ' && content[0] <= '~'
}

// hidden is the content of each cell of a secret.
const hidden = "*"

// hide masks secrets in the cells.
func hide(rows [][]uv.Cell, secret func(string) [][2]int) {
	if secret == nil {
		return
	}
	var text strings.Builder
	var at []*uv.Cell // the cell of each byte of the text
	for _, row := range rows {
		for x := range row {
			text.WriteString(row[x].Content)
			for range len(row[x].Content) {
				at = append(at, &row[x])
			}
		}
	}
	for _, s := range secret(text.String()) {
		for _, cell := range at[s[0]:s[1]] {
			cell.Content = strings.Repeat(hidden, cell.Width)
		}
	}
}

// parts joins cells with the same style. Trailing blanks without a style are left out.
func parts(row []uv.Cell) []api.Cells {
	end := len(row)
	for end > 0 && row[end-1].Content == " " && row[end-1].Style.IsZero() {
		end--
	}
	var out []api.Cells
	var style uv.Style
	var text strings.Builder
	width := 0
	flush := func() {
		if width > 0 {
			out = append(out, api.Cells{Text: text.String(), Width: width, Style: styleOf(style)})
		}
		text.Reset()
		width = 0
	}
	for _, c := range row[:end] {
		if c.Width == 0 {
			continue
		}
		if !c.Style.Equal(&style) {
			flush()
			style = c.Style
		}
		text.WriteString(c.Content)
		width += c.Width
	}
	flush()
	return out
}

// styleOf is the style of a cell in the contract's terms.
func styleOf(s uv.Style) api.Style {
	const blinks = uv.AttrBlink | uv.AttrRapidBlink
	return api.Style{
		Foreground: colorName(s.Fg),
		Background: colorName(s.Bg),
		Bold:       s.Attrs&uv.AttrBold != 0,
		Faint:      s.Attrs&uv.AttrFaint != 0,
		Italic:     s.Attrs&uv.AttrItalic != 0,
		Underline:  s.Underline != ansi.UnderlineNone,
		Blink:      s.Attrs&blinks != 0,
		Reverse:    s.Attrs&uv.AttrReverse != 0,
		Struck:     s.Attrs&uv.AttrStrikethrough != 0,
	}
}

// colorName is a color in the contract's terms.
func colorName(c color.Color) string {
	switch c := c.(type) {
	case nil:
		return ""
	case ansi.BasicColor:
		return strconv.Itoa(int(c))
	case ansi.IndexedColor:
		return strconv.Itoa(int(c))
	}
	r, g, b, _ := c.RGBA()
	return fmt.Sprintf("#%02x%02x%02x", r>>8, g>>8, b>>8)
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
