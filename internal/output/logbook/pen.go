package logbook

import (
	"bytes"
	"strconv"
	"strings"

	"omnivigil/internal/text/escape"
)

// pen is how text is written: with which colours and weight (SGR, ECMA-48 and ITU T.416), and
// the address of a link (OSC 8). Two pens that look the same are equal, by whatever
// sequences they came about.
type pen struct {
	weight                weight
	ink, paper, underline colour
	link                  string // the sequence that opens it
}

// weight is a set of bits.
type weight uint16

const (
	bold weight = 1 << iota
	faint
	italic
	underlined
	twiceUnderlined
	inverse
	struck
	overlined
)

// weights are what SGR parameters switch on, and by which number each is said. What would
// blink or be concealed is plain text here: everything can be read.
var weights = []struct {
	code int
	bit  weight
}{
	{
		1,
		bold,
	},
	{2, faint},
	{3, italic},
	{4, underlined},
	{21, twiceUnderlined},
	{7, inverse},
	{9, struck},
	{53, overlined},
}

// switchedOff are the weights that SGR parameters switch off.
var switchedOff = map[int]weight{
	22: bold | faint,
	23: italic,
	24: underlined | twiceUnderlined,
	27: inverse,
	29: struck,
	55: overlined,
}

// colour is one of the terminal's own, or one of 256, or any; 0 is the terminal's usual.
type colour uint32

const (
	ofPalette colour = 1 << 24 // with a number of 8 bits
	ofLight   colour = 2 << 24 // with red, green and blue
)

const (
	plainColours = "\x1b[0m"
	noLink       = "\x1b]8;;\x1b\\"
)

// String returns the sequences that select the pen, in a line that begins.
func (p pen) String() string { return p.from(pen{}) }

// from returns the sequences that turn another pen into this one.
func (p pen) from(other pen) string {
	var b strings.Builder
	then, now := other, p
	then.link, now.link = "", ""
	if then != now {
		b.WriteString("\x1b[")
		if then != (pen{}) {
			b.WriteByte('0')
			if now != (pen{}) {
				b.WriteByte(';')
			}
		}
		now.writeCodes(&b)
		b.WriteByte('m')
	}
	if p.link != other.link {
		if b.WriteString(p.link); p.link == "" {
			b.WriteString(noLink)
		}
	}
	return b.String()
}

// writeCodes writes the parameters that select the pen.
func (p pen) writeCodes(b *strings.Builder) {
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
		if p.weight&w.bit != 0 {
			add(w.code)
		}
	}
	for _, c := range []struct {
		colour
		base int
	}{{p.ink, 30}, {p.paper, 40}, {p.underline, 50}} {
		n := int(c.colour & 0xffffff)
		switch {
		case c.colour == 0:
		case c.colour&ofLight != 0:
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

// selects takes up a sequence that selects colours or weight.
func (p *pen) selects(seq []byte) {
	link := p.link
	body := seq[2 : len(seq)-1]
	if len(body) == 0 {
		*p = pen{link: link}
		return
	}
	for len(body) > 0 {
		var part []byte
		part, body, _ = bytes.Cut(body, []byte(";"))
		if sub := bytes.Split(part, []byte(":")); len(sub) > 1 {
			p.selectSub(sub)
			continue
		}
		code := number(part)
		switch {
		case code == 38, code == 48, code == 58:
			var c colour
			c, body = colourOf(body)
			p.paint(code, c)
		default:
			p.select1(code)
		}
	}
}

// select1 takes up one parameter.
func (p *pen) select1(code int) {
	for _, w := range weights {
		if w.code == code {
			p.weight |= w.bit
			return
		}
	}
	switch {
	case code == 0:
		*p = pen{link: p.link}
	case switchedOff[code] != 0:
		p.weight &^= switchedOff[code]
	case code >= 30 && code < 38, code >= 40 && code < 48:
		p.paint(code/10*10+8, ofPalette|colour(code%10))
	case code >= 90 && code < 98, code >= 100 && code < 108:
		p.paint((code-60)/10*10+8, ofPalette|colour(code%10+8))
	case code == 39, code == 49, code == 59:
		p.paint(code-1, 0)
	}
}

// selectSub takes up a parameter with parts, such as 4:3, a curly underline, or
// 38:2::255:0:0.
func (p *pen) selectSub(sub [][]byte) {
	switch code := number(sub[0]); code {
	case 4:
		p.weight &^= underlined | twiceUnderlined
		switch kind := number(sub[1]); {
		case kind == 2:
			p.weight |= twiceUnderlined
		case kind > 0:
			p.weight |= underlined
		}
	case 38, 48, 58:
		kind, rest := number(sub[1]), sub[2:]
		if kind == 2 && len(rest) > 3 { // the first is a colour space
			rest = rest[1:]
		}
		switch {
		case kind == 5 && len(rest) == 1:
			p.paint(code, ofPalette|colour(number(rest[0])&0xff))
		case kind == 2 && len(rest) >= 3:
			p.paint(code, light(number(rest[0]), number(rest[1]), number(rest[2])))
		}
	}
}

// paint sets the colour of the ink, 38, the paper, 48, or the underline, 58.
func (p *pen) paint(code int, c colour) {
	switch code {
	case 38:
		p.ink = c
	case 48:
		p.paper = c
	case 58:
		p.underline = c
	}
}

// colourOf reads the parameters after 38, 48 or 58.
func colourOf(body []byte) (colour, []byte) {
	next := func() int {
		var part []byte
		part, body, _ = bytes.Cut(body, []byte(";"))
		return number(part)
	}
	switch next() {
	case 5:
		return ofPalette | colour(next()&0xff), body
	case 2:
		r, g, b := next(), next(), next()
		return light(r, g, b), body
	}
	return 0, body
}

func light(r, g, b int) colour {
	return ofLight | colour(min(r, 255))<<16 | colour(min(g, 255))<<8 | colour(min(b, 255))
}

// number reads a parameter; what is none is 0, as ECMA-48 has it.
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

// links takes up a sequence that opens or ends a link.
func (p *pen) links(seq []byte) {
	if p.link = string(seq); escape.EndsLink(seq) {
		p.link = ""
	}
}
