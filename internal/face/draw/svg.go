package draw

import (
	"encoding/xml"
	"fmt"
	"image/color"
	"io"
	"strconv"
	"strings"
)

// fontFamily names the fonts for viewers: the Go fonts, or similar ones.
const fontFamily = "Go,Arial,Helvetica,sans-serif"

// writeSVG writes the page as SVG 1.1, https://www.w3.org/TR/SVG11/.
func (p *Page) writeSVG(w io.Writer) error {
	var out strings.Builder
	fmt.Fprintf(
		&out,
		`<svg xmlns="http://www.w3.org/2000/svg" version="1.1" width="%smm" height="%smm" viewBox="0 0 %[1]s %[2]s" `+
			`font-family="%s">`,
		number(p.width),
		number(p.height),
		fontFamily,
	)
	out.WriteString("\n<title>" + escaped(p.title) + "</title>\n")
	for _, s := range p.shapes {
		switch s := s.(type) {
		case label:
			weight := ""
			if s.ink.bold {
				weight = ` font-weight="700"`
			}
			fmt.Fprintf(&out, `<text x="%s" y="%s" font-size="%s"%s fill="%s" xml:space="preserve">%s</text>`,
				number(s.x), number(s.y), number(s.ink.size*perPoint), weight, hex(s.ink.color), escaped(s.text))
		case rectangle:
			fmt.Fprintf(
				&out,
				`<rect x="%s" y="%s" width="%s" height="%s" fill="%s"/>`,
				number(s.x),
				number(s.y),
				number(s.width),
				number(s.height),
				hex(s.color),
			)
		case stroke:
			out.WriteString(`<polyline points="`)
			for i, at := range s.places {
				if i > 0 {
					out.WriteByte(' ')
				}
				out.WriteString(number(at[0]) + "," + number(at[1]))
			}
			fmt.Fprintf(&out, `" fill="none" stroke="%s" stroke-width="%s"`, hex(s.color), number(s.width))
			if len(s.dashes) > 0 {
				lengths := make([]string, len(s.dashes))
				for i, d := range s.dashes {
					lengths[i] = number(d)
				}
				fmt.Fprintf(&out, ` stroke-dasharray="%s"`, strings.Join(lengths, " "))
			}
			out.WriteString("/>")
		}
		out.WriteByte('\n')
	}
	out.WriteString("</svg>\n")
	_, err := io.WriteString(w, out.String())
	return err
}

// number writes a length with a precision of a thousandth of a millimetre.
func number(x float64) string {
	text := strconv.FormatFloat(x, 'f', 3, 64)
	return strings.TrimSuffix(strings.TrimRight(text, "0"), ".")
}

func hex(c color.RGBA) string { return fmt.Sprintf("#%02x%02x%02x", c.R, c.G, c.B) }

// escaped is text escaped for XML.
func escaped(text string) string {
	var out strings.Builder
	xml.EscapeText(&out, []byte(text)) // a builder never fails
	return out.String()
}
