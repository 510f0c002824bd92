// Package lens finds what matters in a flood of output: which lines are of the same kind, because they are equal
// except for numbers, identifiers and times; which kinds have appeared only since the last save; how many lines were
// written over time, by level; and which values of a line can be followed through the others. It reads a log at its
// own pace and never makes a process wait. Start reading at Kind and Census.
package lens

import (
	"bytes"

	"omnivigil/internal/text/escape"
)

// FNV-1a, http://www.isthe.com/chongo/tech/comp/fnv/.
const (
	fnvOffset = 14695981039346656037
	fnvPrime  = 1099511628211
)

// Kind identifies the kind of a line: lines that are equal except for words with digits (numbers, identifiers, times)
// and for colors have the same.
func Kind(text []byte) uint64 {
	if bytes.IndexByte(text, 0x1b) >= 0 {
		text = escape.AppendStripped(make([]byte, 0, len(text)), text)
	}
	h, variable := uint64(fnvOffset), false // variable: the last word stands for any
	for i := 0; i < len(text); {
		c := text[i]
		switch {
		case isWord(c):
			end, digits, hex := word(text, i)
			joined := variable && i > 0 && text[i-1] == '-' && hex && end-i >= 4 // a part of a UUID
			if digits || joined {
				if !variable {
					h = (h ^ '#') * fnvPrime
				}
				variable = true
			} else {
				for _, b := range text[i:end] {
					h = (h ^ uint64(b)) * fnvPrime
				}
				variable = false
			}
			i = end
			continue
		case variable && joins(c) && i+1 < len(text) && isWord(text[i+1]):
			// 12.5, 12:04:31 and 127.0.0.1 are one value; "12: text" is not.
			if end, digits, hex := word(text, i+1); digits || c == '-' && hex && end-i-1 >= 4 {
				i++
				continue
			}
		case (c == '-' || c == '+') && i+1 < len(text) && isDigit(text[i+1]): // the sign of a number
			i++
			continue
		}
		h = (h ^ uint64(c)) * fnvPrime
		variable = false
		i++
	}
	return h
}

// word returns the end of the word that begins at i, whether it has a digit, and whether it has only hexadecimal
// digits.
func word(text []byte, i int) (end int, digits, hex bool) {
	hex = true
	for end = i; end < len(text) && isWord(text[end]); end++ {
		c := text[end]
		digits = digits || isDigit(c)
		hex = hex && (isDigit(c) || 'a' <= c && c <= 'f' || 'A' <= c && c <= 'F')
	}
	return end, digits, hex
}

func isDigit(c byte) bool { return '0' <= c && c <= '9' }

// isWord reports whether a byte belongs to a word; those of other alphabets do.
func isWord(c byte) bool {
	return isDigit(c) || 'a' <= c && c <= 'z' || 'A' <= c && c <= 'Z' || c == '_' || c >= 0x80
}

// joins reports whether a byte joins the parts of one value.
func joins(c byte) bool { return c == '.' || c == ':' || c == '-' || c == ',' || c == '+' }
