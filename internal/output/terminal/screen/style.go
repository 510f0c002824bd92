package screen

// style changes what characters are written with (SGR).
func (s *Screen) style() {
	pen := &s.cursor.pen
	if len(s.params) == 0 {
		*pen = empty
		return
	}
	for i := 0; i < len(s.params); {
		n := max(int(s.params[i].value), 0)
		rest := s.params[i+1:]
		subs := 0
		for subs < len(rest) && rest[subs].sub {
			subs++
		}
		used := 1 + subs
		switch {
		case n == 0:
			*pen = empty
		case n == 38 || n == 48 || n == 58:
			color, more := extended(rest, subs)
			switch used += more; {
			case color == 0:
			case n == 38:
				pen.Foreground = color
			case n == 48:
				pen.Background = color
			}
		case n == 4 && subs > 0 && rest[0].value == 0:
			pen.Attributes &^= Underlined
		default:
			pen.style(n)
		}
		i += used
	}
}

// The parameters of SGR that set and reset attributes.
var (
	sets = [...]Attributes{
		1: Bold, 2: Faint, 3: Italic, 4: Underlined, 5: Blink, 6: Blink, 7: Reverse, 8: Concealed, 9: Struck,
		21: Underlined,
	}
	resets = [...]Attributes{
		22: Bold | Faint, 23: Italic, 24: Underlined, 25: Blink, 27: Reverse, 28: Concealed, 29: Struck,
	}
)

// style applies a parameter of SGR.
func (c *Cell) style(n int) {
	switch {
	case n < len(sets):
		c.Attributes |= sets[n]
	case n < len(resets):
		c.Attributes &^= resets[n]
	case n >= 30 && n < 38:
		c.Foreground = palette | Color(n-30)
	case n == 39:
		c.Foreground = 0
	case n >= 40 && n < 48:
		c.Background = palette | Color(n-40)
	case n == 49:
		c.Background = 0
	case n >= 90 && n < 98:
		c.Foreground = palette | Color(n-90+8)
	case n >= 100 && n < 108:
		c.Background = palette | Color(n-100+8)
	}
}

// extended returns a color of 256 or of all colors (38, 48 and 58 of SGR), and how many parameters it uses if they
// are not given as sub-parameters; color 0: it is wrong.
func extended(params []param, subs int) (color Color, used int) {
	if len(params) == 0 {
		return 0, 0
	}
	value := func(i int) Color {
		if i >= len(params) || subs > 0 && i >= subs {
			return 0
		}
		return Color(max(0, min(params[i].value, 255)))
	}
	const all, indexed = 2, 5
	first := 1 // of the values
	switch params[0].value {
	case indexed:
		used, color = 2, palette|value(1)
	case all:
		if subs > 4 { // the color space is given, too
			first = 2
		}
		used, color = 4, rgb|value(first)<<16|value(first+1)<<8|value(first+2)
	default:
		used = 1
	}
	if subs > 0 {
		used = 0
	}
	return color, min(used, len(params))
}
