// Package draw writes the shapes of package timeline as SVG and PDF, with text as text.
//
// A page is for white paper and readable in grey: each state has its own shape, as on the screen. Text uses the Go
// fonts. SVG names them without embedding, so a viewer without them uses its own; in PDF, characters that they do not
// have are missing. Start reading at Page, which collects shapes; svg.go and pdf.go write them.
package draw

import (
	"fmt"
	"image/color"
	"io"
	"math"
	"os"
	"path/filepath"
	"strings"
	"time"

	"omnivigil/internal/text/theme"
)

// Formats are the formats of drawings.
var Formats = []string{"svg", "pdf"}

// FormatOf is the format for a file's extension; empty: none.
func FormatOf(file string) string {
	format := strings.ToLower(strings.TrimPrefix(filepath.Ext(file), "."))
	for _, known := range Formats {
		if format == known {
			return format
		}
	}
	return ""
}

// About is what each page says of itself.
type About struct {
	Project string
	What    string // such as "lanes"
	Span    string // the range of time
	Date    time.Time
}

// Page is a drawing. Lengths are in millimetres, from the upper left corner; y grows downwards.
type Page struct {
	width, height float64
	title         string
	date          time.Time
	shapes        []shape // later ones cover earlier ones
}

// shape is one of label, rectangle and stroke.
type shape any

// label is a line of text whose baseline begins at a position.
type label struct {
	x, y float64
	text string
	ink  ink
}

// rectangle is a filled rectangle.
type rectangle struct {
	x, y, width, height float64
	color               color.RGBA
}

// stroke is a line through points, dashed if lengths of dashes and gaps are given.
type stroke struct {
	color  color.RGBA
	width  float64
	dashes []float64
	places [][2]float64
}

// The page.
const (
	margin    = 10.0
	headed    = margin + 13 // the top of the drawing
	textSize  = 8.0         // points
	smallSize = 7.0
	pageWidth = 297.0 // A4 landscape; pages are as high as necessary
)

// ink is the style of a text.
type ink struct {
	size  float64 // points
	bold  bool
	color color.RGBA
}

// newPage returns an empty page with its heading.
func newPage(a About, width, height float64) (*Page, error) {
	if err := fonts(); err != nil {
		return nil, err
	}
	p := &Page{width: width, height: height, title: a.Project + ": " + a.What + ", " + a.Span, date: a.Date}
	p.box(0, 0, width, height, white)
	p.text(margin, margin+4, a.Project, ink{12, true, black})
	p.text(margin, margin+9, a.What+", "+a.Span, ink{textSize, false, grey})
	p.right(width-margin, margin+4, a.Date.Format("2 January 2006, 15:04:05"), ink{textSize, false, grey})
	return p, nil
}

// Colors on paper.
var (
	black = color.RGBA{A: 0xff}
	white = color.RGBA{0xff, 0xff, 0xff, 0xff}
	grey  = on(theme.Dim)
	faint = on(theme.Faint)
)

// on is a hue on white paper.
func on(h theme.Hue) color.RGBA {
	c := color.RGBA{A: 0xff}
	fmt.Sscanf(h.OnLight, "#%02x%02x%02x", &c.R, &c.G, &c.B) // constants of this form
	return c
}

// text draws a line of text whose baseline begins at a position.
func (p *Page) text(x, y float64, text string, i ink) {
	if text != "" {
		p.shapes = append(p.shapes, label{x, y, text, i})
	}
}

// widest is how much wider than the Go fonts a substitute font may be.
const widest = 1.15

// wide is the maximum width of a text.
func (p *Page) wide(text string, i ink) float64 { return i.width(text) * widest }

// right draws a line of text whose baseline ends at a position.
func (p *Page) right(x, y float64, text string, i ink) { p.text(x-p.wide(text, i), y, text, i) }

// within cuts a text to a width.
func (p *Page) within(text string, i ink, width float64) string {
	if p.wide(text, i) <= width {
		return text
	}
	letters := []rune(text)
	for len(letters) > 0 && p.wide(string(letters)+"…", i) > width {
		letters = letters[:len(letters)-1]
	}
	return string(letters) + "…"
}

// box fills a rectangle.
func (p *Page) box(x, y, width, height float64, c color.RGBA) {
	if width > 0 && height > 0 {
		p.shapes = append(p.shapes, rectangle{x, y, width, height, c})
	}
}

// line draws a line through points, dashed if lengths of dashes are given.
func (p *Page) line(c color.RGBA, width float64, dashes []float64, places ...[2]float64) {
	p.shapes = append(p.shapes, stroke{c, width, dashes, places})
}

// Write writes the page in a format.
func (p *Page) Write(w io.Writer, format string) error {
	switch format {
	case "svg":
		return p.writeSVG(w)
	case "pdf":
		return p.writePDF(w)
	}
	return fmt.Errorf("a drawing is written as %s, not %q", strings.Join(Formats, " or "), format)
}

// File writes the page into a new file, in the format of its extension.
func (p *Page) File(file string) error {
	format := FormatOf(file)
	if format == "" {
		return fmt.Errorf("the name of a drawing ends in .svg or .pdf, unlike %s", file)
	}
	f, err := os.OpenFile(file, os.O_CREATE|os.O_EXCL|os.O_WRONLY, 0o600)
	if err != nil {
		return fmt.Errorf("write the drawing: %w", err)
	}
	err = p.Write(f, format)
	if closed := f.Close(); err == nil {
		err = closed
	}
	if err != nil {
		return fmt.Errorf("write the drawing into %s: %w", file, err)
	}
	return nil
}

// millimetres rounds a coordinate, so that files stay small.
func millimetres(x float64) float64 { return math.Round(x*100) / 100 }
