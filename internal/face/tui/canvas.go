package tui

import (
	"iter"
	"strings"

	"charm.land/lipgloss/v2"
	"github.com/charmbracelet/x/ansi"
)

// strip is one row of single cells, each with a style, for drawings that are put
// together cell by cell.
type strip struct {
	glyphs []string
	styles []*lipgloss.Style
}

func newStrip(n int, glyph string, style *lipgloss.Style) *strip {
	s := &strip{make([]string, n), make([]*lipgloss.Style, n)}
	for i := range n {
		s.glyphs[i], s.styles[i] = glyph, style
	}
	return s
}

func (s *strip) set(i int, glyph string, style *lipgloss.Style) {
	if i >= 0 && i < len(s.glyphs) {
		s.glyphs[i], s.styles[i] = glyph, style
	}
}

// write puts a text at column i, if all of it fits.
func (s *strip) write(i int, text string, style *lipgloss.Style) bool {
	if i < 0 || i+ansi.StringWidth(text) > len(s.glyphs) {
		return false
	}
	for cluster, width := range clusters(text) {
		s.set(i, cluster, style)
		for k := 1; k < width; k++ { // what is wide takes the next cell as well
			s.set(i+k, "", style)
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
func (s *strip) String() string {
	var b strings.Builder
	for i := 0; i < len(s.glyphs); {
		j := i + 1
		for j < len(s.glyphs) && s.styles[j] == s.styles[i] {
			j++
		}
		b.WriteString(s.styles[i].Render(strings.Join(s.glyphs[i:j], "")))
		i = j
	}
	return b.String()
}

// fit cuts or pads text to exactly width cells. Text that was cut ends in an
// ellipsis.
func fit(text string, width int) string {
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

// ends puts left and right at the two ends of a row; left is cut where both do
// not fit.
func ends(left, right string, width int) string {
	room := width - ansi.StringWidth(right)
	if right != "" {
		room--
	}
	if room < width/3 {
		return fit(left, width)
	}
	if right == "" {
		return fit(left, width)
	}
	return fit(left, room) + " " + right
}
