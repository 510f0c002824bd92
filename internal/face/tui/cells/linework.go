package cells

import (
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

// Linework is a grid of cells on which lines are drawn that join where they meet, and text over
// them.
type Linework struct {
	Width, Height int
	arms          [][4]byte // weights of a cell's lines: up, right, down, left; 0 none, 1 thin, 2 thick
	text          []string
	covered       []bool // by text
	styles        []*lipgloss.Style
	blank         lipgloss.Style
	pens          pens
}

// Sides of a cell.
const (
	ArmUp = iota
	ArmRight
	ArmDown
	ArmLeft
)

// Weights of lines.
const (
	Thin  = 1
	Thick = 2
)

// NewLinework returns an empty grid.
func NewLinework(width, height int) *Linework {
	n := width * height
	return &Linework{
		Width: width, Height: height, arms: make([][4]byte, n), text: make([]string, n), covered: make([]bool, n),
		styles: make([]*lipgloss.Style, n), blank: lipgloss.NewStyle(), pens: pens{},
	}
}

// Arm gives a cell a line to one of its sides. A style wins over none that was there.
func (l *Linework) Arm(x, y, side int, weight byte, style *lipgloss.Style) {
	if x < 0 || y < 0 || x >= l.Width || y >= l.Height {
		return
	}
	i := y*l.Width + x
	l.arms[i][side] = max(l.arms[i][side], weight)
	l.styles[i] = style
}

// Across draws from the middle of one cell to that of another in the same row, x1 <= x2.
func (l *Linework) Across(y, x1, x2 int, weight byte, style *lipgloss.Style) {
	for x := x1; x < x2; x++ {
		l.Arm(x, y, ArmRight, weight, style)
		l.Arm(x+1, y, ArmLeft, weight, style)
	}
}

// Along draws from the middle of one cell to that of another in the same column.
func (l *Linework) Along(x, y1, y2 int, weight byte, style *lipgloss.Style) {
	for y := min(y1, y2); y < max(y1, y2); y++ {
		l.Arm(x, y, ArmDown, weight, style)
		l.Arm(x, y+1, ArmUp, weight, style)
	}
}

// Write puts a text over what is there.
func (l *Linework) Write(x, y int, text string, style *lipgloss.Style) {
	if y < 0 || y >= l.Height {
		return
	}
	put := func(x int, cluster string) {
		if x >= 0 && x < l.Width {
			l.text[y*l.Width+x], l.styles[y*l.Width+x], l.covered[y*l.Width+x] = cluster, style, true
		}
	}
	for cluster, width := range clusters(text) {
		put(x, cluster)
		for k := 1; k < width; k++ {
			put(x+k, "")
		}
		x += width
	}
}

// Row draws a part of a row.
func (l *Linework) Row(y, from, width int) string {
	s := NewStrip(width, " ", &l.blank)
	for x := from; x < from+width && x < l.Width; x++ {
		i := y*l.Width + x
		switch {
		case l.covered[i] && l.text[i] == "" && x == from: // the half of what is wide
		case l.covered[i] && x == from+width-1 && ansi.StringWidth(l.text[i]) > 1:
		case l.covered[i]:
			s.Set(x-from, l.text[i], l.styles[i])
		case l.arms[i] != [4]byte{}:
			s.Set(x-from, joints[l.arms[i]], l.styles[i])
		}
	}
	return s.draw(l.pens)
}

// joints are the characters of lines that meet, by their arms; see "Box Drawing" in the Unicode
// standard, U+2500 to U+257F.
var joints = func() map[[4]byte]string {
	// Each character with its arms up, right, down, left.
	const table = `─0101 ━0202 │1010 ┃2020 ┌0110 ┍0210 ┎0120 ┏0220 ┐0011 ┑0012 ┒0021 ┓0022 └1100 ┕1200 ┖2100 ┗2200
		┘1001 ┙1002 ┚2001 ┛2002 ├1110 ┝1210 ┞2110 ┟1120 ┠2120 ┡2210 ┢1220 ┣2220 ┤1011 ┥1012 ┦2011 ┧1021 ┨2021
		┩2012 ┪1022 ┫2022 ┬0111 ┭0112 ┮0211 ┯0212 ┰0121 ┱0122 ┲0221 ┳0222 ┴1101 ┵1102 ┶1201 ┷1202 ┸2101 ┹2102
		┺2201 ┻2202 ┼1111 ┽1112 ┾1211 ┿1212 ╀2111 ╁1121 ╂2121 ╃2112 ╄2211 ╅1122 ╆1221 ╇2212 ╈1222 ╉2122 ╊2221
		╋2222 ╴0001 ╵1000 ╶0100 ╷0010 ╸0002 ╹2000 ╺0200 ╻0020 ╼0201 ╽1020 ╾0102 ╿2010`
	of := map[[4]byte]string{}
	for _, word := range strings.Fields(table) {
		r := []rune(word)
		var arms [4]byte
		for i := range arms {
			arms[i] = byte(r[1+i] - '0')
		}
		of[arms] = string(r[0])
	}
	return of
}()
