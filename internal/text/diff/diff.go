// Package diff compares two versions of a text line by line, and changed lines word by word. Start reading at Of.
package diff

import (
	"strings"
	"unicode"

	"github.com/aymanbagabas/go-udiff"
)

// Hunk is a part of a text that has changed, with unchanged lines around it.
type Hunk struct {
	From  int    `json:"from"` // the number of its first line in the earlier version, from 1
	To    int    `json:"to"`   // and in the later one
	Lines []Line `json:"lines"`
}

// Line is a line of a hunk, without its end.
type Line struct {
	Op   Op     `json:"op"`
	Text string `json:"text"`
	// Words are the parts of the text that differ from the other version of the line, as offsets of bytes; none: it has
	// no other version, or nothing of it.
	Words [][2]int `json:"words,omitempty"`
	// NoEnd: it is the last line of its version, and no newline follows.
	NoEnd bool `json:"no_end,omitempty"`
}

// Op is what has happened to a line.
type Op string

const (
	Same    Op = "same"
	Removed Op = "removed"
	Added   Op = "added"
)

// around is how many unchanged lines are shown before and after a change.
const around = 3

// Of returns the differences of two versions of a text, in order.
func Of(before, after string) (hunks []Hunk, err error) {
	u, err := udiff.ToUnifiedDiff("", "", before, udiff.Lines(before, after), around)
	if err != nil {
		return nil, err
	}
	for _, h := range u.Hunks {
		hunk := Hunk{From: h.FromLine, To: h.ToLine}
		for _, l := range h.Lines {
			text, ended := strings.CutSuffix(l.Content, "\n")
			op := map[udiff.OpKind]Op{udiff.Delete: Removed, udiff.Insert: Added, udiff.Equal: Same}[l.Kind]
			hunk.Lines = append(hunk.Lines, Line{Op: op, Text: strings.TrimSuffix(text, "\r"), NoEnd: !ended})
		}
		mark(hunk.Lines)
		hunks = append(hunks, hunk)
	}
	return hunks, nil
}

// Counts returns how many lines were added and removed.
func Counts(hunks []Hunk) (added, removed int) {
	for _, h := range hunks {
		for _, l := range h.Lines {
			switch l.Op {
			case Added:
				added++
			case Removed:
				removed++
			case Same:
			}
		}
	}
	return added, removed
}

// mark marks the words that differ between removed lines and as many added ones after them.
func mark(lines []Line) {
	for i := 0; i < len(lines); {
		removed := run(lines[i:], Removed)
		added := run(lines[i+removed:], Added)
		if removed == added {
			for k := range removed {
				before, after := &lines[i+k], &lines[i+removed+k]
				before.Words, after.Words = words(before.Text, after.Text)
			}
		}
		i += max(removed+added, 1)
	}
}

// run is how many lines at the beginning have an op.
func run(lines []Line, op Op) int {
	for i, l := range lines {
		if l.Op != op {
			return i
		}
	}
	return len(lines)
}

// maxWords limits the lines whose words are compared, as that takes the product of their numbers.
const maxWords = 300

// words returns the parts of two lines that differ. There are none if the lines have little in common.
func words(before, after string) (inBefore, inAfter [][2]int) {
	a, b := split(before), split(after)
	if len(a) > maxWords || len(b) > maxWords {
		return nil, nil
	}
	// common[i][j] is the length of the longest common subsequence of a[i:] and b[j:].
	common := make([][]int, len(a)+1)
	for i := range common {
		common[i] = make([]int, len(b)+1)
	}
	for i := len(a) - 1; i >= 0; i-- {
		for j := len(b) - 1; j >= 0; j-- {
			if a[i] == b[j] {
				common[i][j] = common[i+1][j+1] + 1
			} else {
				common[i][j] = max(common[i+1][j], common[i][j+1])
			}
		}
	}
	i, j, at, to := 0, 0, 0, 0
	for i < len(a) || j < len(b) {
		switch {
		case i < len(a) && j < len(b) && a[i] == b[j]:
			at, to = at+len(a[i]), to+len(b[j])
			i, j = i+1, j+1
		case j == len(b) || i < len(a) && common[i+1][j] >= common[i][j+1]:
			inBefore = extend(inBefore, at, at+len(a[i]))
			at += len(a[i])
			i++
		default:
			inAfter = extend(inAfter, to, to+len(b[j]))
			to += len(b[j])
			j++
		}
	}
	if mostly(inBefore, before) || mostly(inAfter, after) {
		return nil, nil
	}
	return inBefore, inAfter
}

// mostly reports whether parts are most of a line.
func mostly(parts [][2]int, line string) bool {
	sum := 0
	for _, p := range parts {
		sum += p[1] - p[0]
	}
	return 3*sum > 2*len(line)
}

// extend adds a part, or makes the last one longer.
func extend(parts [][2]int, from, to int) [][2]int {
	if n := len(parts); n > 0 && parts[n-1][1] == from {
		parts[n-1][1] = to
		return parts
	}
	return append(parts, [2]int{from, to})
}

// split divides a line into words, spaces and single other characters.
func split(line string) (parts []string) {
	kind := func(r rune) int {
		switch {
		case unicode.IsLetter(r), unicode.IsDigit(r), r == '_':
			return 1
		case unicode.IsSpace(r):
			return 2
		}
		return 0
	}
	last, begun := -1, 0
	for i, r := range line {
		k := kind(r)
		if i > begun && (k == 0 || k != last) {
			parts = append(parts, line[begun:i])
			begun = i
		}
		last = k
	}
	if begun < len(line) {
		parts = append(parts, line[begun:])
	}
	return parts
}
