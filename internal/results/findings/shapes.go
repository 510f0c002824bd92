package findings

import (
	"bytes"
	"encoding/binary"
	"math/bits"
	"time"

	"omnivigil/internal/results"
	"omnivigil/internal/results/source"
)

// Programs that write without end write the same few lines again and again, with other numbers in them. A line that has
// no meaning is examined once, and recognized by its shape from then on: the line with a zero for every digit.

// shape is what lines of a shape mean.
type shape uint8

const (
	newShape  shape = iota
	noShape         // nothing, by its bytes
	ordinary        // nothing, although it looked like a finding
	headShape       // it is a message whose location may be below it
)

// shapes are the shapes that have been examined. The table is small: what is written often stays in it.
type shapes struct {
	table [1 << 8]struct {
		sum   uint64
		means shape
	}
	since time.Time // when the first of them was examined
}

// at returns the entry of a shape.
func (s *shapes) at(sum uint64) *shape {
	e := &s.table[sum%uint64(len(s.table))]
	if e.sum != sum {
		e.sum, e.means = sum, newShape
	}
	return &e.means
}

// age forgets every shape when a file that did not exist may exist by now.
func (s *shapes) age() {
	now := time.Now()
	if s.since.IsZero() {
		s.since = now
	}
	if now.Sub(s.since) > source.MissingFor {
		*s = shapes{since: now}
	}
}

// add records the meaning of a line. The shape of a line with digits in the name of a file is not recorded: a line of
// the same shape may name another file.
func (s *shapes) add(line string, means shape) {
	if s.age(); !namesWithDigits(line) {
		*s.at(shapeOf([]byte(line))) = means
	}
}

// shapeOf returns a hash of a line with a zero for every digit.
func shapeOf(line []byte) uint64 {
	const each, prime1, prime2 = 0x0101010101010101, 0x9e3779b97f4a7c15, 0xd6e8feb86659fd93
	sum := uint64(len(line)) * prime1
	mix := func(w uint64) {
		x := w ^ '0'*each                                             // a digit's value, in bytes that are digits
		more := (x&^(0x80*each) + (0x80-10)*each | x) & (0x80 * each) // the highest bit of all others
		w &^= (^more & (0x80 * each)) >> 7 * 0x0f
		high, low := bits.Mul64(w^prime2, sum^prime1)
		sum = high ^ low
	}
	for ; len(line) >= 8; line = line[8:] {
		mix(binary.LittleEndian.Uint64(line))
	}
	if len(line) > 0 {
		var rest [8]byte
		copy(rest[:], line)
		mix(binary.LittleEndian.Uint64(rest[:]))
	}
	return sum
}

// namesWithDigits reports whether a word with a digit may be a file's name or path: it has a slash, or a letter after
// its last dot.
func namesWithDigits(line string) bool {
	digit, letter, slash, suffix := false, false, false, false
	for i := 0; i <= len(line); i++ {
		c := byte(' ')
		if i < len(line) {
			c = line[i]
		}
		switch {
		case isDigit(c):
			digit = true
		case c == '/' || c == '\\':
			slash = true
		case c == '.':
			suffix = i+1 < len(line) && (isLetter(line[i+1]) || line[i+1] == '_')
		case isNameByte(c) || c >= 0x80:
			letter = true
		default:
			if digit && (suffix || slash && letter) {
				return true
			}
			digit, letter, slash, suffix = false, false, false, false
		}
	}
	return false
}

// Skip passes over complete lines, as a process has written them but without colors, if none of them has a meaning. It
// is fast. It returns false if they have to be read; then nothing has changed.
func (f *Reader) Skip(block []byte) bool {
	if f.pattern != nil || f.busy() {
		return false
	}
	left, head, last := 0, []byte(nil), []byte(nil)
	if f.header != nil {
		left = f.left
	}
	f.shapes.age()
	for rest := block; len(rest) > 0; {
		var line []byte
		line, rest, _ = bytes.Cut(rest, lineEnd)
		line = bytes.TrimRight(line, "\r")
		if left > 0 {
			if mayBePlace(line) {
				return false
			}
			left--
		}
		last = line
		switch means := f.shapes.at(shapeOf(line)); *means {
		case newShape:
			if matters(line) {
				return false
			}
			*means = noShape
		case headShape:
			head, left = line, linesBelow
		}
	}
	if head != nil {
		headed(f, string(head))
	}
	if f.left = left; left == 0 {
		f.header = nil
	}
	if len(last) > 0 && !isSpace(last[0]) && len(last) < results.LongestLine { // it may be the heading of rows below
		f.heading = string(last)
	}
	return true
}

// learn records the meaning of a line that has just been read, if that depended on the line alone: rows and marks
// depend on lines before them, and begin with none of these bytes.
func (f *Reader) learn(line string, means shape) {
	if first := line[0]; isLetter(first) || isDigit(first) || first == '{' || first == '[' {
		if !f.busy() && f.trace.isQuiet() {
			f.shapes.add(line, means)
		}
	}
}
