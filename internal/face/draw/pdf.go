package draw

import (
	"fmt"
	"image/color"
	"io"

	"codeberg.org/go-pdf/fpdf"
	"golang.org/x/image/font/gofont/gobold"
	"golang.org/x/image/font/gofont/goregular"
)

// writePDF writes the page as PDF, with the characters that the fonts have.
func (p *Page) writePDF(w io.Writer) error {
	orientation := fpdf.OrientationLandscape
	if p.height > p.width {
		orientation = fpdf.OrientationPortrait
	}
	size := fpdf.SizeType{Wd: min(p.width, p.height), Ht: max(p.width, p.height)}
	out := fpdf.NewCustom(&fpdf.InitType{OrientationStr: orientation, UnitStr: fpdf.UnitMillimeter, Size: size})
	out.SetAutoPageBreak(false, 0)
	out.SetTitle(p.title, true)
	out.SetCreationDate(p.date)
	out.SetModificationDate(p.date)
	out.AddUTF8FontFromBytes("Go", "", goregular.TTF)
	out.AddUTF8FontFromBytes("Go", "B", gobold.TTF)
	out.AddPage()
	for _, s := range p.shapes {
		switch s := s.(type) {
		case label:
			style := ""
			if s.ink.bold {
				style = "B"
			}
			out.SetFont("Go", style, s.ink.size)
			out.SetTextColor(rgb(s.ink.color))
			out.Text(s.x, s.y, s.text)
		case rectangle:
			out.SetFillColor(rgb(s.color))
			out.Rect(s.x, s.y, s.width, s.height, "F")
		case stroke:
			drawStroke(out, s)
		}
	}
	if err := out.Output(w); err != nil {
		return fmt.Errorf("make a PDF: %w", err)
	}
	return nil
}

func drawStroke(out *fpdf.Fpdf, s stroke) {
	out.SetDrawColor(rgb(s.color))
	out.SetLineWidth(s.width)
	out.SetDashPattern(s.dashes, 0)
	for i, at := range s.places {
		if i == 0 {
			out.MoveTo(at[0], at[1])
		} else {
			out.LineTo(at[0], at[1])
		}
	}
	out.DrawPath("D")
}

func rgb(c color.RGBA) (red, green, blue int) { return int(c.R), int(c.G), int(c.B) }
