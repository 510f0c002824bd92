package query

import "encoding/binary"

// appendLower appends a text with its ASCII letters in lowercase, eight bytes at a time: that makes a search that
// ignores case several times faster than letter by letter.
func appendLower(to, text []byte) []byte {
	const (
		each = 0x0101010101010101
		high = 0x8080808080808080
	)
	n := len(to)
	to = append(to, text...)
	out := to[n:]
	i := 0
	for ; i+8 <= len(out); i += 8 {
		w := binary.LittleEndian.Uint64(out[i:])
		low := w &^ uint64(high)
		// The highest bit of each byte of atLeastA is set if it is 'A' or above, of aboveZ if above 'Z'; bytes beyond
		// ASCII are excluded.
		atLeastA := low + (0x80-'A')*each
		aboveZ := low + (0x80-'Z'-1)*each
		capital := (atLeastA &^ aboveZ) &^ w & high
		binary.LittleEndian.PutUint64(out[i:], w|capital>>2)
	}
	for ; i < len(out); i++ {
		out[i] = lowerOf(out[i])
	}
	return to
}
