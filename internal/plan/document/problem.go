package document

import (
	"fmt"
	"strconv"
	"strings"
	"unicode/utf8"

	"omnivigil/internal/text/escape"
)

// Problem is one problem of a settings file, with its location.
type Problem struct {
	File   string
	Line   int    // from 1; 0: the file as a whole
	Column int    // from 1, in characters
	Width  int    // the number of characters, at least 1
	Source string // the line, or of a very long one the relevant part
	Cut    int    // how many characters of the line are left out before Source
	Text   string // what is wrong
	Hint   string // what to do, often the nearest valid name; may be empty
}

// String returns the problem for users: location and text, then the line with a caret below.
func (p Problem) String() string {
	var b strings.Builder
	b.WriteString(escape.Text(p.File))
	if p.Line > 0 {
		fmt.Fprintf(&b, ":%d:%d", p.Line, p.Column)
	}
	b.WriteString(": " + escape.Text(p.Text))
	if p.Hint != "" {
		b.WriteString("; " + escape.Text(p.Hint))
	}
	if p.Line > 0 {
		gutter := strconv.Itoa(p.Line) + " | "
		// The caret line repeats the source's tabs so that it lines up at any tab width.
		source := []rune(p.Source)
		column := min(max(p.Column-1-p.Cut, 0), len(source))
		width := min(p.Width, len(source)-column)
		lead := []rune(escape.Lines(string(source[:column])))
		for i, r := range lead {
			if r != '\t' {
				lead[i] = ' '
			}
		}
		carets := utf8.RuneCountInString(escape.Lines(string(source[column : column+width])))
		fmt.Fprintf(&b, "\n  %s%s\n  %s%s%s", gutter, escape.Lines(string(source)),
			strings.Repeat(" ", utf8.RuneCountInString(gutter)), string(lead), strings.Repeat("^", max(carets, 1)))
	}
	return b.String()
}

// Problems is the error of Read for an invalid file: all of its problems, in the order of lines.
type Problems []Problem

// Texts returns the problems without locations, for settings that no person has written.
func (ps Problems) Texts() string {
	parts := make([]string, len(ps))
	for i, p := range ps {
		if parts[i] = p.Text; p.Hint != "" {
			parts[i] += "; " + p.Hint
		}
	}
	return strings.Join(parts, "\n")
}

func (ps Problems) Error() string {
	parts := make([]string, len(ps))
	for i, p := range ps {
		parts[i] = p.String()
	}
	return strings.Join(parts, "\n")
}
