package card

import (
	"fmt"
	"strconv"
	"strings"

	"omnivigil/internal/api/changes"
	"omnivigil/internal/text/diff"
	"omnivigil/internal/text/format"
)

// Changes shows how files have changed, with at most so many lines of each part of a file; 0: all.
func Changes(files []changes.File, most int) (rows []Row) {
	for i, f := range files {
		if i > 0 {
			rows = append(rows, Row{})
		}
		rows = append(rows, Change(f, most)...)
	}
	return rows
}

// Change shows how a file has changed: its name with what has happened, and its lines.
func Change(f changes.File, most int) []Row {
	rows := []Row{{Role: Location, Text: Heading(f)}}
	if f.Note != "" {
		return append(rows, Row{Role: Quiet, Text: "  " + f.Note})
	}
	for i, h := range f.Hunks {
		if i > 0 {
			rows = append(rows, Row{Role: Quiet, Text: "       ⋮"})
		}
		rows = append(rows, hunk(h, most)...)
	}
	return rows
}

// Heading names a changed file, and what has happened to it.
func Heading(f changes.File) string {
	text := f.Path
	switch {
	case f.Kind != changes.Changed:
		text += ", " + string(f.Kind)
	case f.Note == "":
		text += fmt.Sprintf("  +%d −%d", f.Added, f.Removed)
	}
	if f.Reverts > 0 {
		text += fmt.Sprintf(", takes back the change of ripple %d", f.Reverts)
	}
	return text
}

// hunk shows a part of a file, with the numbers of its lines.
func hunk(h diff.Hunk, most int) (rows []Row) {
	from, to := h.From, h.To
	lines := h.Lines
	head, tail := len(lines), 0
	if most > 0 && len(lines) > most {
		tail = most / 3
		head = most - tail
	}
	for i, l := range lines {
		number, sign, role := to, " ", Source
		switch l.Op {
		case diff.Added:
			sign, role = "+", Added
		case diff.Removed:
			number, sign, role = from, "−", Removed
		case diff.Same:
		}
		if l.Op != diff.Added {
			from++
		}
		if l.Op != diff.Removed {
			to++
		}
		switch {
		case i == head && tail > 0:
			rows = append(rows, Row{Role: Quiet, Text: "       ⋮ " + format.Count(len(lines)-most, "more line")})
		case i < head, i >= len(lines)-tail:
			rows = append(rows, line(number, sign, role, l))
		}
	}
	return rows
}

// line is a line of a file with its number. Tabs are spaces in it.
func line(number int, sign string, role Role, l diff.Line) Row {
	prefix := fmt.Sprintf("  %5s %s ", strconv.Itoa(number), sign)
	r := Row{Role: role}
	var b strings.Builder
	b.WriteString(prefix)
	at := 0
	write := func(to int) { b.WriteString(strings.ReplaceAll(l.Text[at:to], "\t", "    ")); at = to }
	for _, w := range l.Words {
		write(w[0])
		begin := b.Len()
		write(w[1])
		r.Words = append(r.Words, [2]int{begin, b.Len()})
	}
	write(len(l.Text))
	r.Text = b.String()
	return r
}
