package screen

// del has no effect (ECMA-48, DEL).
const del = 0x7f

// plainWidth is the width of a character that never belongs to the one before: letters of Europe, symbols of frames
// and charts, and letters of East Asia; 0: this is to be found out.
func plainWidth(r rune) int {
	switch {
	case r >= 0xa1 && r < 0x300 && r != 0xa9 && r != 0xad && r != 0xae,
		r >= 0x370 && r < 0x483,
		r >= 0x2500 && r < 0x25a0, // frames, blocks
		r >= 0x2801 && r < 0x2900: // Braille
		return 1
	case r >= 0x3041 && r < 0x3097, r >= 0x30a1 && r < 0x30fb, // kana
		r >= 0x4e00 && r < 0xa000, r >= 0xac00 && r < 0xd7a4: // Han, Hangul
		return 2
	}
	return 0
}

// charset has the characters that are written in place of ASCII, from a byte on.
type charset []rune

func (c charset) of(b byte) rune {
	const first = '`' // of the set for drawing lines
	if i := int(b) - first; i >= 0 && i < len(c) {
		return c[i]
	}
	return rune(b)
}

// frames are DEC's special graphics (VT100 User Guide, table 3-9).
var frames = charset("◆▒␉␌␍␊°±␤␋┘┐┌└┼⎺⎻─⎼⎽├┤┴┬│≤≥π≠£·")

// defaultStops has a tabulator stop every eight columns; those that are set are kept.
func defaultStops(set []bool, cols int) []bool {
	for x := len(set); x < cols; x++ {
		set = append(set, x%8 == 0)
	}
	return set[:cols]
}

// tab moves by so many tabulator stops, to the right or left.
func (s *Screen) tab(by int) {
	for ; by > 0 && s.cursor.x < s.cols-1; by-- {
		for s.cursor.x++; s.cursor.x < s.cols-1 && !s.stops[s.cursor.x]; s.cursor.x++ {
		}
	}
	for ; by < 0 && s.cursor.x > 0; by++ {
		for s.cursor.x--; s.cursor.x > 0 && !s.stops[s.cursor.x]; s.cursor.x-- {
		}
	}
}
