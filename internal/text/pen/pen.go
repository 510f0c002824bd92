// Package pen reads and writes the sequences that select how text looks on a terminal: colors and weight (SGR,
// ECMA-48 and ITU T.416) and links (OSC 8). It is the one place where their parameters are interpreted. A Pen is a
// value; two pens that look the same are equal.
package pen

import (
	"bytes"
	"strconv"
	"strings"

	"omnivigil/internal/text/escape"
)

// Pen is how text is written: its colors and weight (SGR, ECMA-48 and ITU T.416), and the address of a link (OSC 8).
// Pens that look the same are equal, whatever sequences set them.
type Pen struct {
	Weight                Weight
	Ink, Paper, Underline Color
	Link                  string // the sequence that opens it
}

// Weight is a set of bits.
type Weight uint16

const (
	Bold Weight = 1 << iota
	Faint
	Italic
	Underlined
	TwiceUnderlined
	Inverse
	Struck
	Overlined
)

// weights are what SGR parameters switch on, with the number to write for each.
var weights = []struct {
	code int
	bit  Weight
}{
	{1, Bold},
	{2, Faint},
	{3, Italic},
	{4, Underlined},
	{21, TwiceUnderlined},
	{7, Inverse},
	{9, Struck},
	{53, Overlined},
}

// switchedOn is weights by their number.
var switchedOn = func() (by [64]Weight) {
	for _, w := range weights {
		by[w.code] = w.bit
	}
	return by
}()

// switchedOff are the weights that SGR parameters switch off.
var switchedOff = [64]Weight{
	22: Bold | Faint,
	23: Italic,
	24: Underlined | TwiceUnderlined,
	27: Inverse,
	29: Struck,
	55: Overlined,
}

// Color is one of the terminal's own colors, one of 256, or any; 0 is the default.
type Color uint32

const (
	OfPalette Color = 1 << 24 // with a number of 8 bits
	OfLight   Color = 2 << 24 // with red, green and blue
)

const (
	PlainColors = "\x1b[0m"
	NoLink      = "\x1b]8;;\x1b\\"
)

// String returns the sequences that select the pen at the start of a line.
func (p Pen) String() string { return p.From(Pen{}) }

// From returns the sequences that turn another pen into this one.
func (p Pen) From(other Pen) string {
	var b strings.Builder
	then, now := other, p
	then.Link, now.Link = "", ""
	if then != now {
		b.WriteString("\x1b[")
		if then != (Pen{}) {
			b.WriteByte('0')
			if now != (Pen{}) {
				b.WriteByte(';')
			}
		}
		now.writeCodes(&b)
		b.WriteByte('m')
	}
	if p.Link != other.Link {
		if b.WriteString(p.Link); p.Link == "" {
			b.WriteString(NoLink)
		}
	}
	return b.String()
}

// writeCodes writes the parameters that select the pen.
func (p Pen) writeCodes(b *strings.Builder) {
	begun := false
	add := func(codes ...int) {
		for _, c := range codes {
			if begun {
				b.WriteByte(';')
			}
			begun = true
			b.WriteString(strconv.Itoa(c))
		}
	}
	for _, w := range weights {
		if p.Weight&w.bit != 0 {
			add(w.code)
		}
	}
	for _, c := range []struct {
		Color
		base int
	}{{p.Ink, 30}, {p.Paper, 40}, {p.Underline, 50}} {
		n := int(c.Color & 0xffffff)
		switch {
		case c.Color == 0:
		case c.Color&OfLight != 0:
			add(c.base+8, 2, n>>16, n>>8&0xff, n&0xff)
		case n < 8 && c.base < 50:
			add(c.base + n)
		case n < 16 && c.base < 50:
			add(c.base + 60 + n - 8)
		default:
			add(c.base+8, 5, n)
		}
	}
}

// Selects applies a sequence that selects colors or weight. It reports whether the pen has all that the sequence
// selects: what would blink or be concealed is plain text here, so that everything can be read.
func (p *Pen) Selects(seq []byte) (all bool) {
	body := seq[2 : len(seq)-1]
	if code, is := oneNumber(body); is {
		return p.select1(code)
	}
	all = true
	for len(body) > 0 {
		var part []byte
		part, body, _ = bytes.Cut(body, []byte(";"))
		if bytes.IndexByte(part, ':') >= 0 {
			all = p.selectSub(bytes.Split(part, []byte(":"))) && all
			continue
		}
		switch code := number(part); code {
		case 38, 48, 58:
			var c Color
			c, body = colorOf(body)
			p.paint(code, c)
		default:
			all = p.select1(code) && all
		}
	}
	return all
}

// oneNumber parses a sequence with one parameter, as most are; without any it is 0.
func oneNumber(body []byte) (code int, is bool) {
	if len(body) > 3 {
		return 0, false
	}
	for _, c := range body {
		if c < '0' || c > '9' {
			return 0, false
		}
		code = code*10 + int(c-'0')
	}
	return code, true
}

// select1 applies one parameter, and reports whether it is known.
func (p *Pen) select1(code int) bool {
	switch {
	case code == 0:
		*p = Pen{Link: p.Link}
	case code >= 30 && code < 38, code >= 40 && code < 48:
		p.paint(code/10*10+8, OfPalette|Color(code%10))
	case code >= 90 && code < 98, code >= 100 && code < 108:
		p.paint((code-60)/10*10+8, OfPalette|Color(code%10+8))
	case code == 39, code == 49, code == 59:
		p.paint(code-1, 0)
	case code < len(switchedOn) && switchedOn[code] != 0:
		p.Weight |= switchedOn[code]
	case code < len(switchedOff) && switchedOff[code] != 0:
		p.Weight &^= switchedOff[code]
	default:
		return false
	}
	return true
}

// selectSub applies a parameter with parts, such as 4:3, a curly underline, or 38:2::255:0:0, and reports whether it
// is known.
func (p *Pen) selectSub(sub [][]byte) bool {
	switch code := number(sub[0]); code {
	case 4:
		p.Weight &^= Underlined | TwiceUnderlined
		switch kind := number(sub[1]); {
		case kind == 2:
			p.Weight |= TwiceUnderlined
		case kind > 0:
			p.Weight |= Underlined
		}
	case 38, 48, 58:
		kind, rest := number(sub[1]), sub[2:]
		if kind == 2 && len(rest) > 3 { // the first is a color space
			rest = rest[1:]
		}
		switch {
		case kind == 5 && len(rest) == 1:
			p.paint(code, OfPalette|Color(number(rest[0])&0xff))
		case kind == 2 && len(rest) >= 3:
			p.paint(code, light(number(rest[0]), number(rest[1]), number(rest[2])))
		}
	default:
		return false
	}
	return true
}

// paint sets the color of the text, 38, the background, 48, or the underline, 58.
func (p *Pen) paint(code int, c Color) {
	switch code {
	case 38:
		p.Ink = c
	case 48:
		p.Paper = c
	case 58:
		p.Underline = c
	}
}

// colorOf parses the parameters after 38, 48 or 58.
func colorOf(body []byte) (Color, []byte) {
	next := func() int {
		var part []byte
		part, body, _ = bytes.Cut(body, []byte(";"))
		return number(part)
	}
	switch next() {
	case 5:
		return OfPalette | Color(next()&0xff), body
	case 2:
		r, g, b := next(), next(), next()
		return light(r, g, b), body
	}
	return 0, body
}

func light(r, g, b int) Color {
	return OfLight | Color(min(r, 255))<<16 | Color(min(g, 255))<<8 | Color(min(b, 255))
}

// number parses a parameter; an invalid one is 0, see ECMA-48.
func number(text []byte) int {
	n := 0
	for _, c := range text {
		if c < '0' || c > '9' || n > 1e6 {
			return 0
		}
		n = n*10 + int(c-'0')
	}
	return n
}

// Links applies a sequence that opens or ends a link.
func (p *Pen) Links(seq []byte) {
	if p.Link = string(seq); escape.EndsLink(seq) {
		p.Link = ""
	}
}

// RGB returns a color's red, green and blue, for one that is not of the palette of 256.
func (c Color) RGB() (red, green, blue int, ok bool) {
	return int(c >> 16 & 0xff), int(c >> 8 & 0xff), int(c & 0xff), c&OfLight != 0
}

// Index returns a color's number in the palette of 256.
func (c Color) Index() (number int, ok bool) { return int(c & 0xff), c&OfPalette != 0 }
