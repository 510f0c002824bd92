// Package cells makes rows of terminal cells: text that is cut or padded to a width, strips of single styled cells,
// lines that join where they meet, and the palette of the full screen with its textures for states. It knows no view
// and no project. Start reading at Fit, Strip, Linework and Palette.
package cells

import (
	"iter"
	"slices"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

// Strip is one row of single cells, each with a style, for drawings that are put
// together cell by cell.
type Strip struct {
	Glyphs []string
	styles []*lipgloss.Style
}

// NewStrip returns a row of n cells that all have a glyph and a style.
func NewStrip(n int, glyph string, style *lipgloss.Style) *Strip {
	s := &Strip{make([]string, n), make([]*lipgloss.Style, n)}
	for i := range n {
		s.Glyphs[i], s.styles[i] = glyph, style
	}
	return s
}

// Set changes cell i, if there is one.
func (s *Strip) Set(i int, glyph string, style *lipgloss.Style) {
	if i >= 0 && i < len(s.Glyphs) {
		s.Glyphs[i], s.styles[i] = glyph, style
	}
}

// Write puts a text at column i, if all of it fits.
func (s *Strip) Write(i int, text string, style *lipgloss.Style) bool {
	if i < 0 || i+ansi.StringWidth(text) > len(s.Glyphs) {
		return false
	}
	for cluster, width := range clusters(text) {
		s.Set(i, cluster, style)
		for k := 1; k < width; k++ { // what is wide takes the next cell as well
			s.Set(i+k, "", style)
		}
		i += width
	}
	return true
}

// clusters are what a user takes for the letters of a text, each with how many cells it takes.
func clusters(text string) iter.Seq2[string, int] {
	return func(yield func(string, int) bool) {
		for text != "" {
			cluster, width := ansi.FirstGraphemeCluster(text, ansi.GraphemeWidth)
			if text = text[len(cluster):]; width > 0 && !yield(cluster, width) {
				return
			}
		}
	}
}

// String draws the row, with one styled piece for each stretch of the same style.
func (s *Strip) String() string { return s.draw(pens{}) }

func (s *Strip) draw(with pens) string {
	var b strings.Builder
	for i := 0; i < len(s.Glyphs); {
		j := i + 1
		for j < len(s.Glyphs) && s.styles[j] == s.styles[i] {
			j++
		}
		with.draw(&b, s.styles[i], s.Glyphs[i:j])
		i = j
	}
	return b.String()
}

// pens have what styles put around a text. Style.Render takes much longer, because it also makes borders and margins,
// and most of a frame is made of short texts in few styles.
type pens map[*lipgloss.Style]pen

type pen struct {
	before, after string
	complex       bool // what it draws depends on the text
}

// draw draws glyphs in a style, as Style.Render does.
func (p pens) draw(b *strings.Builder, style *lipgloss.Style, glyphs []string) {
	with, known := p[style]
	if !known {
		const text = "\ue000" // which no address has
		var found bool
		with.before, with.after, found = strings.Cut(style.Render(text), text)
		with.complex = !found || style.GetUnderline() || style.GetStrikethrough() // they may leave out spaces
		p[style] = with
	}
	if with.complex {
		b.WriteString(style.Render(strings.Join(glyphs, "")))
		return
	}
	if !slices.ContainsFunc(glyphs, func(glyph string) bool { return glyph != "" }) {
		return
	}
	b.WriteString(with.before)
	for _, glyph := range glyphs {
		b.WriteString(glyph)
	}
	b.WriteString(with.after)
}

// Fit cuts or pads text to exactly width cells. Text that was cut ends in an
// ellipsis.
func Fit(text string, width int) string {
	if width <= 0 {
		return ""
	}
	w := ansi.StringWidth(text)
	if w > width { // where something wide is cut, a cell is left
		text = ansi.Truncate(text, width, "…")
		w = ansi.StringWidth(text)
	}
	return text + strings.Repeat(" ", max(width-w, 0))
}

// Ends puts left and right at the two ends of a row; left is cut where both do
// not fit.
func Ends(left, right string, width int) string {
	room := width - ansi.StringWidth(right)
	if right != "" {
		room--
	}
	if room < width/3 {
		return Fit(left, width)
	}
	if right == "" {
		return Fit(left, width)
	}
	return Fit(left, room) + " " + right
}

// Eighths are cells filled from the bottom by 0 to 8 eighths.
var Eighths = []string{" ", "▁", "▂", "▃", "▄", "▅", "▆", "▇", "█"}
