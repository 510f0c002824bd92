package lens

import "strings"

// Value is a part of a line's visible text that can be followed through other lines.
type Value struct {
	From, To int  // in bytes of the text
	Likely   bool // it probably identifies something: a request, an order, an address
}

// Values returns the values of a visible text, in their order: what is between blanks, quotes and brackets, and of
// NAME=VALUE the value.
func Values(text string) []Value {
	const separates = " \t\"'`()[]{}<>,;=|"
	var all []Value
	for i := 0; i < len(text); {
		if strings.IndexByte(separates, text[i]) >= 0 {
			i++
			continue
		}
		end := i
		for end < len(text) && strings.IndexByte(separates, text[end]) < 0 {
			end++
		}
		from, to := i, end
		i = end
		for to > from && strings.IndexByte(".:!?", text[to-1]) >= 0 { // the end of a sentence
			to--
		}
		for from < to && text[from] == ':' { // "name":VALUE
			from++
		}
		if end < len(text) && text[end] == '=' || to-from < 2 { // a name, or a mere letter
			continue
		}
		all = append(all, Value{from, to, identifies(text[from:to])})
	}
	return all
}

// identifies reports whether a value is one that few lines have: it has digits and letters, or many digits.
func identifies(value string) bool {
	digits, letters := 0, 0
	for i := range len(value) {
		switch c := value[i]; {
		case isDigit(c):
			digits++
		case isWord(c):
			letters++
		}
	}
	unit := len(strings.TrimLeft(value, "0123456789.,")) <= 2 // 12ms, 3.5kB
	return digits >= 4 || digits > 0 && letters > 0 && !unit
}
